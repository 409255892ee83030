//! Names, paths and values in JSON: text where they are such, else their bytes.

use std::ffi::OsString;
use std::os::unix::ffi::OsStringExt;
use std::path::PathBuf;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use serde::{Deserialize, Serialize};

/// Text where it is such, else its bytes.
#[derive(Serialize, Deserialize)]
#[serde(untagged)]
pub(crate) enum Bytes {
    Text(String),
    Other { base64: String },
}

impl From<&[u8]> for Bytes {
    fn from(bytes: &[u8]) -> Self {
        match std::str::from_utf8(bytes) {
            Ok(text) => Self::Text(text.to_owned()),
            Err(_) => Self::Other { base64: STANDARD.encode(bytes) },
        }
    }
}

impl Bytes {
    pub(crate) fn decoded(self) -> Result<Vec<u8>, String> {
        match self {
            Self::Text(text) => Ok(text.into_bytes()),
            Self::Other { base64 } => STANDARD.decode(base64).map_err(|e| e.to_string()),
        }
    }

    /// As the name of one entry: it must not lead anywhere else.
    pub(crate) fn name(self) -> Result<Vec<u8>, String> {
        let name = self.decoded()?;
        let leads_away = name.is_empty() || name == b"." || name == b"..";
        if leads_away || name.iter().any(|b| matches!(b, b'/' | 0)) || name.len() > 65_535 {
            return Err(format!("'{}' is no name of an entry", name.escape_ascii()));
        }
        Ok(name)
    }

    /// As a path below a root, empty for the root: it must not lead anywhere else.
    pub(crate) fn relative(self) -> Result<Vec<u8>, String> {
        let path = self.decoded()?;
        let leads_away = |name: &[u8]| name.is_empty() || name == b"." || name == b"..";
        if !path.is_empty() && path.split(|b| *b == b'/').any(leads_away) || path.contains(&0) {
            return Err(format!("'{}' is no path below a root", path.escape_ascii()));
        }
        Ok(path)
    }

    pub(crate) fn path(self) -> Result<PathBuf, String> {
        Ok(OsString::from_vec(self.decoded()?).into())
    }
}
