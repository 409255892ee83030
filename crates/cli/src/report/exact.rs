//! Paths in events: as text, and as exact bytes if the text is not exact.
//!
//! A path that is not UTF-8 is printed with replacement characters, and a second field whose name ends in `_base64`
//! holds its bytes (RFC 4648, with padding).

use std::collections::HashMap;
use std::ffi::{OsStr, OsString};
use std::marker::PhantomData;
use std::os::unix::ffi::{OsStrExt as _, OsStringExt as _};
use std::path::{Path, PathBuf};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::de::Error as _;
use serde::ser::SerializeMap as _;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use serde_json::Value;
use utter_echo_core::path::TreePath;

use crate::terminal::names;

/// The names of the two fields of a path.
pub(crate) trait Field {
    const TEXT: &'static str;
    const BASE64: &'static str;
    const ABOUT: &'static str;
    /// Their names in older records.
    const OLD: (&'static str, &'static str);
}

/// Defines a [`Field`] of this name. Names after a `|` are those of older records.
macro_rules! field {
    ($(#[doc = $about:literal])+ $name:ident = $text:literal / $base64:literal $(| $old:literal / $old64:literal)?) => {
        pub(crate) struct $name;
        impl crate::report::exact::Field for $name {
            const TEXT: &'static str = $text;
            const BASE64: &'static str = $base64;
            const ABOUT: &'static str = concat!($($about),+);
            #[allow(unused_mut, unused_assignments, reason = "most have no older names")]
            const OLD: (&'static str, &'static str) = {
                let mut old = ($text, $base64);
                $(old = ($old, $old64);)?
                old
            };
        }
    };
}
pub(crate) use field;

/// A path, serialised in the fields of `F`.
pub(crate) struct Exact<F>(Vec<u8>, PhantomData<F>);

impl<F> Clone for Exact<F> {
    fn clone(&self) -> Self {
        Self(self.0.clone(), PhantomData)
    }
}

impl<F> std::fmt::Debug for Exact<F> {
    fn fmt(&self, to: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        self.shown().fmt(to)
    }
}

impl<F> Exact<F> {
    /// Escaped, on one line.
    pub(crate) fn shown(&self) -> String {
        names::shown(&self.0)
    }

    pub(crate) fn as_bytes(&self) -> &[u8] {
        &self.0
    }

    pub(crate) fn to_path(&self) -> PathBuf {
        OsStr::from_bytes(&self.0).into()
    }
}

impl<F> From<&TreePath> for Exact<F> {
    fn from(path: &TreePath) -> Self {
        Self(path.as_bytes().to_vec(), PhantomData)
    }
}

impl<F> From<&Path> for Exact<F> {
    fn from(path: &Path) -> Self {
        Self(path.as_os_str().as_bytes().to_vec(), PhantomData)
    }
}

/// The exact bytes, if the text is not exact.
fn base64(bytes: &[u8]) -> Option<String> {
    std::str::from_utf8(bytes).is_err().then(|| STANDARD.encode(bytes))
}

impl<F: Field> Serialize for Exact<F> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let mut fields = to.serialize_map(None)?;
        fields.serialize_entry(F::TEXT, &String::from_utf8_lossy(&self.0))?;
        if let Some(base64) = base64(&self.0) {
            fields.serialize_entry(F::BASE64, &base64)?;
        }
        fields.end()
    }
}

/// The bytes that such fields hold.
fn exact_bytes(text: &Value, base64: Option<&Value>) -> Option<Vec<u8>> {
    match base64.and_then(Value::as_str) {
        Some(base64) => STANDARD.decode(base64).ok(),
        None => Some(text.as_str()?.as_bytes().to_vec()),
    }
}

impl<'de, F: Field> Deserialize<'de> for Exact<F> {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let fields: HashMap<String, Value> = HashMap::deserialize(from)?;
        let named = |name, old| fields.get(name).or_else(|| fields.get(old));
        let text = named(F::TEXT, F::OLD.0).ok_or_else(|| D::Error::missing_field(F::TEXT))?;
        let bytes = exact_bytes(text, named(F::BASE64, F::OLD.1));
        bytes.map(|bytes| Self(bytes, PhantomData)).ok_or_else(|| D::Error::custom("no path"))
    }
}

impl<F: Field> JsonSchema for Exact<F> {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        F::TEXT.into()
    }

    fn inline_schema() -> bool {
        true
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({
            "type": "object",
            "properties": {
                F::TEXT: { "type": "string", "description": F::ABOUT.trim() },
                F::BASE64: { "type": "string", "description": BASE64_ABOUT },
            },
            "required": [F::TEXT],
        })
    }
}

const BASE64_ABOUT: &str = "The exact bytes in base64, if they are not UTF-8.";

/// The sources of a run.
#[derive(Clone, Default)]
pub(crate) struct Sources(Vec<PathBuf>);

impl From<&[PathBuf]> for Sources {
    fn from(sources: &[PathBuf]) -> Self {
        Self(sources.to_vec())
    }
}

impl Sources {
    pub(crate) fn paths(&self) -> &[PathBuf] {
        &self.0
    }

    pub(crate) fn shown(&self) -> String {
        let shown = |source: &PathBuf| names::path(source);
        self.0.iter().map(shown).collect::<Vec<_>>().join(", ")
    }
}

impl Serialize for Sources {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let texts: Vec<_> = self.0.iter().map(|source| source.to_string_lossy()).collect();
        let exact = |source: &PathBuf| base64(OsStr::as_bytes(source.as_os_str()));
        let exact: Vec<_> = self.0.iter().map(exact).collect();
        let mut fields = to.serialize_map(None)?;
        fields.serialize_entry("sources", &texts)?;
        if exact.iter().any(Option::is_some) {
            fields.serialize_entry("sources_base64", &exact)?;
        }
        fields.end()
    }
}

impl<'de> Deserialize<'de> for Sources {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let fields: HashMap<String, Value> = HashMap::deserialize(from)?;
        let list = |name| fields.get(name).and_then(Value::as_array);
        let exact = list("sources_base64");
        let path = |(at, text): (usize, &Value)| {
            let bytes = exact_bytes(text, exact.and_then(|exact| exact.get(at)))?;
            Some(PathBuf::from(OsString::from_vec(bytes)))
        };
        let paths: Option<_> =
            list("sources").into_iter().flatten().enumerate().map(path).collect();
        paths.map(Self).ok_or_else(|| D::Error::custom("no path"))
    }
}

impl JsonSchema for Sources {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "sources".into()
    }

    fn inline_schema() -> bool {
        true
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({
            "type": "object",
            "properties": {
                "sources": { "type": "array", "items": { "type": "string" }, "description": "The sources as they were given. The list is empty if the command has none." },
                "sources_base64": {
                    "type": "array",
                    "items": { "type": ["string", "null"] },
                    "description": "The exact bytes in base64 of each source that is not UTF-8, and null for the others. It is missing if all are UTF-8.",
                },
            },
            "required": ["sources"],
        })
    }
}
