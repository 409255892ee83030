//! Which names a drive takes, and which of them it takes for one.

/// How a drive distinguishes names.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum CaseFolding {
    /// By their bytes.
    #[default]
    Never,
    /// Letters of the Latin alphabet count the same, large or small.
    Latin,
    /// All letters do.
    All,
}

/// What the names of a drive are made of.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum NameBytes {
    /// Any bytes.
    #[default]
    Any,
    /// UTF-8.
    Utf8,
    /// ASCII.
    Ascii,
}

/// Which names a drive takes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct NameRules {
    /// Characters that no name may hold, beyond `/`.
    pub forbidden: Vec<char>,
    /// No control characters.
    pub no_control: bool,
    /// Which bytes may stand in a name.
    pub letters: NameBytes,
    /// No dot or space at the end.
    pub firm_end: bool,
    /// Up to 255 characters instead of 255 bytes.
    pub counts_characters: bool,
    /// What counts as one name.
    pub folding: CaseFolding,
}

/// Why a drive cannot take a name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NameObjection {
    /// It holds this character.
    Character(char),
    /// It is not UTF-8.
    NotUtf8,
    /// It is not ASCII.
    NotAscii,
    /// It ends with a dot or a space.
    LooseEnd,
    /// It is too long.
    TooLong,
}

impl NameRules {
    /// What speaks against a name; `None` if the drive takes it.
    pub fn objection(&self, name: &[u8]) -> Option<NameObjection> {
        let text = match std::str::from_utf8(name) {
            Ok(text) => text,
            Err(_) if self.letters != NameBytes::Any => return Some(NameObjection::NotUtf8),
            Err(_) => return (name.len() > 255).then_some(NameObjection::TooLong),
        };
        if let Some(character) = text.chars().find(|c| self.forbids(*c)) {
            return Some(NameObjection::Character(character));
        }
        if self.letters == NameBytes::Ascii && !text.is_ascii() {
            return Some(NameObjection::NotAscii);
        }
        if self.firm_end && text.ends_with(['.', ' ']) {
            return Some(NameObjection::LooseEnd);
        }
        let length = if self.counts_characters { text.encode_utf16().count() } else { name.len() };
        (length > 255).then_some(NameObjection::TooLong)
    }

    fn forbids(&self, character: char) -> bool {
        self.forbidden.contains(&character) || self.no_control && character < ' '
    }

    /// The same for all names that fall together.
    pub fn fold(&self, name: &[u8]) -> Vec<u8> {
        match (self.folding, std::str::from_utf8(name)) {
            (CaseFolding::Never, _) => name.to_vec(),
            (CaseFolding::All, Ok(text)) => text.to_lowercase().into_bytes(),
            (CaseFolding::Latin | CaseFolding::All, _) => name.to_ascii_lowercase(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn names_are_refused_with_the_reason() {
        let strict = NameRules {
            forbidden: vec![':'],
            no_control: true,
            letters: NameBytes::Utf8,
            firm_end: true,
            counts_characters: true,
            folding: CaseFolding::All,
        };
        assert_eq!(strict.objection(b"tide:12"), Some(NameObjection::Character(':')));
        assert_eq!(strict.objection(b"tide\x1b"), Some(NameObjection::Character('\x1b')));
        assert_eq!(strict.objection(b"tide\xff"), Some(NameObjection::NotUtf8));
        assert_eq!(strict.objection(b"tide."), Some(NameObjection::LooseEnd));
        assert_eq!(strict.objection("é".repeat(255).as_bytes()), None);
        assert_eq!(strict.objection("é".repeat(256).as_bytes()), Some(NameObjection::TooLong));
        let plain = NameRules { letters: NameBytes::Ascii, ..NameRules::default() };
        assert_eq!(plain.objection("tidé".as_bytes()), Some(NameObjection::NotAscii));
        let lenient = NameRules::default();
        assert_eq!(lenient.objection(b"tide:\xff."), None);
        assert_eq!(lenient.objection("é".repeat(128).as_bytes()), Some(NameObjection::TooLong));
    }

    proptest! {
        #[test]
        fn folding_joins_what_differs_by_case_alone(name in "[a-zA-Z0-9äÄ]{1,12}") {
            let all = NameRules { folding: CaseFolding::All, ..NameRules::default() };
            let latin = NameRules { folding: CaseFolding::Latin, ..NameRules::default() };
            prop_assert_eq!(all.fold(name.as_bytes()), all.fold(name.to_uppercase().as_bytes()));
            let upper = name.to_ascii_uppercase();
            prop_assert_eq!(latin.fold(name.as_bytes()), latin.fold(upper.as_bytes()));
            prop_assert_eq!(NameRules::default().fold(name.as_bytes()), name.as_bytes());
        }
    }
}
