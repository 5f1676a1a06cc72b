//! Where something is written.

use serde::{Deserialize, Serialize};
use std::fmt;
use tipstaff_core::policy::Origin;

/// Where something is written.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Written {
    /// The file, as it was named.
    pub file: String,
    /// The line on which it begins, from 1.
    pub line: usize,
}

impl From<&Origin> for Written {
    fn from(origin: &Origin) -> Self {
        Self { file: origin.file.to_string(), line: origin.line }
    }
}

impl fmt::Display for Written {
    /// As people read it: `policy.toml:12`.
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(out, "{}:{}", self.file, self.line)
    }
}
