//! The codes of findings, as reports carry them.

use serde::Serialize;
use std::fmt;
use tipstaff_core::policy;

/// The code of a kind of finding.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Code(pub policy::Code);

impl Code {
    /// The code as it stands in JSON.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        self.0.as_str()
    }
}

impl AsRef<str> for Code {
    fn as_ref(&self) -> &str {
        self.as_str()
    }
}

impl fmt::Display for Code {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.pad(self.as_str())
    }
}

impl Serialize for Code {
    fn serialize<S: serde::Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.serialize_str(self.as_str())
    }
}

#[cfg(feature = "schema")]
impl schemars::JsonSchema for Code {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Code".into()
    }

    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        let codes: Vec<&str> = policy::Code::ALL.iter().map(|it| it.as_str()).collect();
        schemars::json_schema!({
            "description": "The code of a kind of finding.",
            "type": "string",
            "enum": codes,
        })
    }
}
