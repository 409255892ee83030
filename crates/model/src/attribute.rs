//! The attributes of an entry that a run can carry.

use std::fmt;

/// An attribute that a run carries, or its content.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
#[repr(u8)]
pub enum Attribute {
    /// The bytes of a file or the text of a link. Without it nothing is added or replaced.
    Content,
    /// Modification time, to the nanosecond.
    Times,
    /// Permission and special bits.
    Mode,
    /// Owner and group, by number.
    Owner,
    /// Access control lists, of folders also the default one.
    Acl,
    /// Extended attributes.
    Xattr,
    /// Inode flags: immutable, append-only, no-dump, no-atime, sync.
    Flags,
    /// Which names are hard links of one file.
    Hardlinks,
    /// Parts of a sparse file that take no space.
    Holes,
    /// Time of the last access, which is not part of `all`, since reading changes it.
    Atime,
}

impl Attribute {
    /// All attributes, in the order in which they are documented.
    pub const ALL: [Self; 10] = [
        Self::Content,
        Self::Times,
        Self::Mode,
        Self::Owner,
        Self::Acl,
        Self::Xattr,
        Self::Flags,
        Self::Hardlinks,
        Self::Holes,
        Self::Atime,
    ];

    /// Its word in commands, messages and JSON.
    pub fn name(self) -> &'static str {
        match self {
            Self::Content => "content",
            Self::Times => "times",
            Self::Mode => "mode",
            Self::Owner => "owner",
            Self::Acl => "acl",
            Self::Xattr => "xattr",
            Self::Flags => "flags",
            Self::Hardlinks => "hardlinks",
            Self::Holes => "holes",
            Self::Atime => "atime",
        }
    }
}

/// A set of attributes.
#[derive(Clone, Copy, Default, PartialEq, Eq, Hash)]
pub struct Attributes(u16);

impl Attributes {
    /// No attribute.
    pub const NONE: Self = Self(0);
    /// Every attribute but the access time, which is carried only if it is named.
    pub const ALL: Self = Self(Self::bit(Attribute::Atime) - 1);

    /// True if `attribute` is in the set.
    pub fn has(self, attribute: Attribute) -> bool {
        self.0 & Self::bit(attribute) != 0
    }

    /// The set with `attribute`.
    #[must_use]
    pub fn with(self, attribute: Attribute) -> Self {
        Self(self.0 | Self::bit(attribute))
    }

    /// The set without `attribute`.
    #[must_use]
    pub fn without(self, attribute: Attribute) -> Self {
        Self(self.0 & !Self::bit(attribute))
    }

    /// True if nothing is in the set.
    pub fn is_empty(self) -> bool {
        self.0 == 0
    }

    /// The attributes in the set, in documented order.
    pub fn iter(self) -> impl Iterator<Item = Attribute> {
        Attribute::ALL.into_iter().filter(move |a| self.has(*a))
    }

    /// Reads a list as a user types it: `all`, `content,times`, `all,-owner`. Later words act on
    /// what earlier ones left; a list that opens with a `-` starts from `all`.
    pub fn parse(list: &str) -> Result<Self, UnknownAttribute> {
        let mut set = if list.trim_start().starts_with('-') { Self::ALL } else { Self::NONE };
        for word in list.split(',').map(str::trim) {
            let (name, take) = word.strip_prefix('-').map_or((word, true), |rest| (rest, false));
            let named = match Attribute::ALL.into_iter().find(|a| a.name() == name) {
                Some(attribute) => Self::NONE.with(attribute),
                None if name == "all" => Self::ALL,
                None => return Err(UnknownAttribute(word.to_owned())),
            };
            set = if take { Self(set.0 | named.0) } else { Self(set.0 & !named.0) };
        }
        Ok(set)
    }

    /// The set as a number, for files.
    pub fn bits(self) -> u16 {
        self.0
    }

    /// The attributes among these bits.
    pub fn of_bits(bits: u16) -> Self {
        Attribute::ALL.into_iter().filter(|attribute| bits & Self::bit(*attribute) != 0).collect()
    }

    const fn bit(attribute: Attribute) -> u16 {
        1 << attribute as u8
    }
}

impl fmt::Debug for Attributes {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_set().entries(self.iter()).finish()
    }
}

impl FromIterator<Attribute> for Attributes {
    fn from_iter<I: IntoIterator<Item = Attribute>>(attributes: I) -> Self {
        attributes.into_iter().fold(Self::NONE, Self::with)
    }
}

/// A word in a carry list that names no attribute.
#[derive(Debug, thiserror::Error)]
#[error(
    "'{0}' is not an attribute; the attributes are all, content, times, mode, owner, acl, xattr, flags, hardlinks, holes and atime, each also with a '-' in front to leave it out"
)]
pub struct UnknownAttribute(String);

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_carry_list_is_read_from_left_to_right() {
        let parse = |list| Attributes::parse(list).unwrap();
        assert_eq!(parse("all"), Attributes::ALL);
        assert_eq!(
            parse("content, times").iter().collect::<Vec<_>>(),
            [Attribute::Content, Attribute::Times]
        );
        assert_eq!(parse("all,-owner"), Attributes::ALL.without(Attribute::Owner));
        assert_eq!(
            parse("-owner,-acl"),
            Attributes::ALL.without(Attribute::Owner).without(Attribute::Acl)
        );
        assert!(parse("all,atime").has(Attribute::Atime) && !parse("all").has(Attribute::Atime));
        assert!(parse("all,atime").has(Attribute::Holes) && parse("all").has(Attribute::Holes));
        assert_eq!(parse("-all,mode"), Attributes::NONE.with(Attribute::Mode));
        assert!(Attributes::parse("colour").unwrap_err().to_string().contains("'colour'"));
        assert!(Attributes::parse("").is_err());
    }
}
