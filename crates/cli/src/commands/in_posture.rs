//! The option of commands that reason: in which posture.

use super::complete::postures;
use clap::Args;
use clap_complete::ArgValueCandidates as Names;

/// In which posture of the host the policy is looked at.
#[derive(Debug, Args)]
pub struct InPosture {
    /// Take the policy as it is in this posture of the host, or in `none`
    #[arg(long, value_name = "POSTURE", add = Names::new(postures))]
    pub posture: Option<String>,
}
