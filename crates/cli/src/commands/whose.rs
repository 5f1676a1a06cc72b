//! Whether a change is about a host, or about all hosts with a label.

use super::complete::labels;
use clap::Args;
use clap_complete::ArgValueCandidates as Names;

/// What a change is about.
#[derive(Debug, Args)]
pub struct Whose {
    /// The label whose hosts it is about; the host if left out
    #[arg(long, value_name = "NAME", add = Names::new(labels))]
    pub label: Option<String>,
    /// Show the effect and the lines that would change; write nothing
    #[arg(long)]
    pub dry_run: bool,
}

impl Whose {
    /// The section: its kind and its name.
    pub fn owner<'n>(&'n self, host: &'n str) -> (&'static str, &'n str) {
        self.label.as_deref().map_or(("host", host), |label| ("label", label))
    }
}
