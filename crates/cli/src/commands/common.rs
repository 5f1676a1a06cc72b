//! What all changes of rules have in common.

use super::complete::{bundles, labels, postures};
use clap::Args;
use clap_complete::ArgValueCandidates as Names;

/// What every change has.
#[derive(Debug, Args)]
pub struct Common {
    /// The bundle whose rule it is; the host's own rules if left out
    #[arg(long, value_name = "NAME", add = Names::new(bundles))]
    bundle: Option<String>,
    /// The label whose rule it is
    #[arg(long, value_name = "NAME", add = Names::new(labels), conflicts_with = "bundle")]
    label: Option<String>,
    /// The posture of the host whose rule it is
    #[arg(long, value_name = "POSTURE", add = Names::new(postures), conflicts_with_all = ["bundle", "label"])]
    posture: Option<String>,
    /// Show the effect and the lines that would change; write nothing
    #[arg(long)]
    dry_run: bool,
}

impl Common {
    /// Whose rule it is, if it is not the host's own.
    pub(super) fn owner(&self) -> Option<(&'static str, &str)> {
        match (&self.bundle, &self.label) {
            (Some(bundle), _) => Some(("bundle", bundle)),
            (None, Some(label)) => Some(("label", label)),
            (None, None) => None,
        }
    }

    /// The posture of the host whose rule it is, if it is a posture's.
    pub(super) fn posture(&self) -> Option<&str> {
        self.posture.as_deref()
    }

    /// Whether nothing is to be written.
    pub(super) fn is_dry(&self) -> bool {
        self.dry_run
    }
}
