//! Sets of words, each the same in text and in JSON.

/// Defines an enum whose variants are told as these words.
macro_rules! words {
    ($(#[$about:meta])* $name:ident { $($(#[$each:meta])* $variant:ident = $word:literal),+ $(,)? }) => {
        $(#[$about])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq, schemars::JsonSchema)]
        pub(crate) enum $name {
            $($(#[$each])* #[schemars(rename = $word)] $variant,)+
        }

        impl serde::Serialize for $name {
            fn serialize<S: serde::Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
                to.serialize_str(self.word())
            }
        }

        impl $name {
            /// As it is told.
            pub(crate) fn word(self) -> &'static str {
                match self {
                    $(Self::$variant => $word,)+
                }
            }
        }
    };
}
pub(crate) use words;
