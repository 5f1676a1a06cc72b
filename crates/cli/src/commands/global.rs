//! The options that every command has.

use super::complete::{self, POLICY};
use crate::render::{ColorWhen, Format};
use clap::Args;
use clap_complete::ArgValueCandidates as Names;
use std::path::PathBuf;

/// Where the help puts them.
pub const COMMON: &str = "Options of every command";

/// Options of every command.
#[derive(Debug, Args)]
pub struct Global {
    /// The policy file
    #[arg(
        long,
        global = true, help_heading = COMMON,
        env = "TIPSTAFF_POLICY",
        default_value = POLICY,
        value_name = "PATH"
    )]
    pub policy: PathBuf,
    /// The host of the policy; this machine, or the only one, if left out
    #[arg(long, global = true, help_heading = COMMON, value_name = "NAME", add = Names::new(complete::hosts))]
    pub host: Option<String>,
    /// Where the docket and the policies it refers to are kept
    #[arg(
        long,
        global = true, help_heading = COMMON,
        env = "TIPSTAFF_STATE",
        default_value = "/var/lib/tipstaff",
        value_name = "PATH"
    )]
    pub state: PathBuf,
    /// The note from which a boot knows without the docket that a policy was confirmed, and where the
    /// remote shell listens
    #[arg(
        long,
        global = true, help_heading = COMMON,
        env = "TIPSTAFF_BOOT_NOTE",
        default_value = "/etc/tipstaff/boot-note.json",
        value_name = "PATH"
    )]
    pub boot_note: PathBuf,
    /// How results are written
    #[arg(long, global = true, help_heading = COMMON, value_enum, default_value = "text")]
    pub format: Format,
    /// Tell effects down to their smallest parts
    #[arg(long, global = true, help_heading = COMMON)]
    pub in_full: bool,
    /// When colours are used
    #[arg(long, global = true, help_heading = COMMON, value_enum, default_value = "auto")]
    pub color: ColorWhen,
}
