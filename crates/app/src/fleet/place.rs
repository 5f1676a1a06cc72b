//! Who takes, and where.

use super::carrier::is_host;
use super::kept;
use crate::Failure;
use crate::load::name_of_this_machine;
use crate::store::Home;
use std::path::PathBuf;

/// Who takes, and where.
#[derive(Clone, Debug)]
pub(super) struct Place {
    /// The name of the machine in the fleet.
    pub host: String,
    /// The folder of the policy.
    pub policy: PathBuf,
}

impl Place {
    /// Of this machine.
    ///
    /// # Errors
    /// [`Failure`] if it cannot be a member.
    pub(super) fn of(home: &Home) -> Result<Self, Failure> {
        let (policy, host) = home.policy.clone().unwrap_or_default();
        let host = host.unwrap_or_else(name_of_this_machine);
        if !is_host(&host) {
            let message = format!("a member of a fleet cannot be called `{}`", host.escape_debug());
            return Err(Failure::usage(message, "--host gives it another name"));
        }
        kept::must_be_a_folder(&policy)?;
        Ok(Self { host, policy })
    }
}
