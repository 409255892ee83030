//! Sets of words, the same in text and JSON.

/// Defines an enum whose variants are printed as these words. Words after a `|` are those of older records.
macro_rules! words {
    ($(#[$about:meta])* $name:ident { $($(#[$each:meta])* $variant:ident = $word:literal $(| $old:literal)?),+ $(,)? }) => {
        #[derive(Clone, Copy, Debug, PartialEq, Eq, schemars::JsonSchema)]
        $(#[$about])*
        pub(crate) enum $name {
            $($(#[$each])* #[schemars(rename = $word)] $variant,)+
        }

        impl serde::Serialize for $name {
            fn serialize<S: serde::Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
                to.serialize_str(self.word())
            }
        }

        impl<'de> serde::Deserialize<'de> for $name {
            fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
                let word = std::borrow::Cow::<'de, str>::deserialize(from)?;
                let known = match &*word {
                    $($($old => Some(Self::$variant),)?)+
                    word => Self::of(word),
                };
                known.ok_or_else(|| serde::de::Error::unknown_variant(&word, &[$($word),+]))
            }
        }

        impl $name {
            /// The variant of a word.
            pub(crate) fn of(word: &str) -> Option<Self> {
                [$(Self::$variant),+].into_iter().find(|known| known.word() == word)
            }

            /// The word.
            pub(crate) fn word(self) -> &'static str {
                match self {
                    $(Self::$variant => $word,)+
                }
            }
        }
    };
}
pub(crate) use words;
