//! Names, paths and values in files: in JSON as text if they are UTF-8, else as base64.

use std::ffi::OsString;
use std::os::unix::ffi::OsStringExt;
use std::path::PathBuf;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use serde::{Deserialize, Deserializer, Serialize, Serializer, de};
use serde_bytes::ByteBuf;

/// Any bytes.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Bytes(Vec<u8>);

/// How JSON shows them.
#[derive(Serialize, Deserialize)]
#[serde(untagged)]
enum Shown<T> {
    Text(T),
    Other { base64: String },
}

impl From<&[u8]> for Bytes {
    fn from(bytes: &[u8]) -> Self {
        Self(bytes.to_owned())
    }
}

impl Serialize for Bytes {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        if !to.is_human_readable() {
            return to.serialize_bytes(&self.0);
        }
        match std::str::from_utf8(&self.0) {
            Ok(text) => Shown::Text(text).serialize(to),
            Err(_) => Shown::<&str>::Other { base64: STANDARD.encode(&self.0) }.serialize(to),
        }
    }
}

impl<'d> Deserialize<'d> for Bytes {
    fn deserialize<D: Deserializer<'d>>(from: D) -> Result<Self, D::Error> {
        if !from.is_human_readable() {
            return ByteBuf::deserialize(from).map(|bytes| Self(bytes.into_vec()));
        }
        match Shown::<String>::deserialize(from)? {
            Shown::Text(text) => Ok(Self(text.into_bytes())),
            Shown::Other { base64 } => {
                STANDARD.decode(base64).map(Self).map_err(|e| de::Error::custom(e.to_string()))
            }
        }
    }
}

impl Bytes {
    /// The bytes themselves.
    pub fn into_vec(self) -> Vec<u8> {
        self.0
    }

    /// As the name of one entry, which must not contain a path.
    pub fn name(self) -> Result<Vec<u8>, String> {
        let Self(name) = self;
        let leads_away = name.is_empty() || name == b"." || name == b"..";
        if leads_away || name.iter().any(|b| matches!(b, b'/' | 0)) || name.len() > 65_535 {
            return Err(format!("'{}' cannot be the name of an entry", name.escape_ascii()));
        }
        Ok(name)
    }

    /// As a path below a root, empty for the root itself, which must not lead out of it.
    pub fn relative(self) -> Result<Vec<u8>, String> {
        let Self(path) = self;
        let leads_away = |name: &[u8]| name.is_empty() || name == b"." || name == b"..";
        if !path.is_empty() && path.split(|b| *b == b'/').any(leads_away) || path.contains(&0) {
            return Err(format!("'{}' is not a path below a root", path.escape_ascii()));
        }
        Ok(path)
    }

    /// As a path of the system.
    pub fn path(self) -> PathBuf {
        OsString::from_vec(self.0).into()
    }
}
