//! The options of each command.

use super::complete::{places, rules};
use crate::app::compare::Operand;
use crate::app::reach::Vantage;
use crate::app::transaction;
use crate::store::Home;
use clap::{Args, Subcommand, ValueEnum};
use clap_complete::ArgValueCandidates as Names;
use std::net::IpAddr;
use std::time::Duration;
use tipstaff_core::space::Direction;

/// Options of `ask`.
#[derive(Debug, Args)]
pub struct Ask {
    /// The sender's address
    #[arg(long, value_name = "ADDRESS")]
    pub from: Option<String>,
    /// The receiver's address; for inbound traffic the host's own if left out
    #[arg(long, value_name = "ADDRESS")]
    pub to: Option<String>,
    /// What is sent, such as 443/tcp, 53/udp or icmp (an echo request)
    #[arg(long, value_name = "TRAFFIC", required_unless_present_any = ["who", "what", "why"])]
    pub traffic: Option<String>,
    /// Instead: who can reach this traffic, such as 5432/tcp
    #[arg(long, value_name = "TRAFFIC", conflicts_with_all = ["from", "to", "traffic", "via", "what", "why"])]
    pub who: Option<String>,
    /// Instead: what this sender, or all of a place, can reach
    #[arg(long, value_name = "PLACE|ADDRESS", add = Names::new(places), conflicts_with_all = ["from", "to", "traffic", "via", "why"])]
    pub what: Option<String>,
    /// Instead: what this rule still decides after those above it
    #[arg(long, value_name = "RULE", add = Names::new(rules), conflicts_with_all = ["from", "to", "traffic", "via"])]
    pub why: Option<String>,
    /// The interface it comes in by (outbound: goes out by), by role or name
    #[arg(long, value_name = "INTERFACE")]
    pub via: Option<String>,
    /// The interface a forwarded packet goes out by
    #[arg(long, value_name = "INTERFACE")]
    pub out_via: Option<String>,
    /// The program on this host that receives it (outbound: sends it), by absolute path
    #[arg(long, value_name = "PATH")]
    pub program: Option<String>,
    /// Which way it goes
    #[arg(long, value_enum, default_value = "inbound")]
    pub direction: DirectionWord,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub enum DirectionWord {
    Inbound,
    Outbound,
    Forwarded,
}

/// Options of `review`.
#[derive(Debug, Args)]
pub struct Review {
    /// Also look at what listens on this machine, and at the session you work in
    #[arg(long)]
    pub live: bool,
    /// Say what a kind of finding means
    #[arg(long, value_name = "CODE")]
    pub explain: Option<String>,
}

/// Options of `compare`.
#[derive(Debug, Args)]
pub struct Compare {
    /// A policy (PATH or PATH@HOST), another host of this one (@HOST), `kernel`, or `committed`
    #[arg(value_name = "FIRST", value_parser = Operand::parse)]
    pub first: Operand,
    /// Likewise; the policy itself if left out
    #[arg(value_name = "SECOND", value_parser = Operand::parse)]
    pub second: Option<Operand>,
    /// Tell every difference with the kernel, however many there are and however long that takes
    #[arg(long)]
    pub all: bool,
}

/// How long a change stays.
#[derive(Debug, Args)]
pub struct Staying {
    /// Stay so until the next change, without waiting to be confirmed
    #[arg(long)]
    pub keep: bool,
    /// Go back by itself unless `tipstaff confirm` comes within this time
    #[arg(long, value_name = "SECONDS", default_value = "60", value_parser = waiting)]
    pub confirm_within: Duration,
}

/// Options of `enforce`.
#[derive(Debug, Args)]
pub struct Enforce {
    #[command(flatten)]
    pub staying: Staying,
    /// Show what would change; change nothing
    #[arg(long)]
    pub dry_run: bool,
    /// Go on although the session you work in could not be opened again
    #[arg(long)]
    pub even_if_locked_out: bool,
    /// Go on although none of the host's addresses is this machine's, or another host's rules were
    /// confirmed here last
    #[arg(long)]
    pub not_this_machine: bool,
    /// Tell every change for packets, however many there are and however long that takes
    #[arg(long)]
    pub all: bool,
    /// How much memory a boot may need to load the policy
    #[arg(long, value_name = "MIB", default_value_t = transaction::FOR_A_BOOT)]
    pub boot_memory: u64,
    /// Leave rules that name programs out, as if they were paused; `status` goes on saying so
    #[arg(long)]
    pub without_programs: bool,
    /// Also end connections that began before and that the policy would not admit
    #[arg(long, conflicts_with = "dry_run")]
    pub cut: bool,
    /// Load the last confirmed policy from the docket, as at boot
    #[arg(long, conflicts_with_all = ["dry_run", "keep", "even_if_locked_out", "not_this_machine", "cut", "without_programs"])]
    pub boot: bool,
    /// Only if our rules are gone from the kernel, and no change waits to be confirmed
    #[arg(long, requires = "boot")]
    pub if_gone: bool,
}

/// Options of `status`.
#[derive(Debug, Args)]
pub struct Status {
    /// Instead: try what this kernel can do for the policy, and say what is done without it; changes nothing
    #[arg(long)]
    pub kernel: bool,
}

/// Options of `draft`.
#[derive(Debug, Args)]
pub struct Draft {
    /// Make each rule one for the program that listens now, and no other; not the remote shell's
    #[arg(long)]
    pub programs: bool,
}

/// Options of `programs`.
#[derive(Debug, Args)]
pub struct Programs {
    /// Have the files recognised that the paths lead to now; the rules stay what they are
    #[arg(long)]
    pub refresh: bool,
    /// Stay, and refresh whenever a file is replaced or a process takes over a socket
    #[arg(long, conflicts_with = "refresh")]
    pub watch: bool,
}

/// Options of `confirm`.
#[derive(Debug, Args)]
pub struct Confirm {
    /// Go on although a session could not be opened again
    #[arg(long)]
    pub even_if_locked_out: bool,
}

/// Options of `revert`.
#[derive(Debug, Args)]
pub struct Revert {
    /// The entry of the docket; what was confirmed before the last if left out
    pub id: Option<u64>,
    #[command(flatten)]
    pub staying: Staying,
    /// Go on although the session you work in could not be opened again
    #[arg(long)]
    pub even_if_locked_out: bool,
}

/// Options of `cut`.
#[derive(Debug, Args)]
pub struct Cut {
    /// Only list them
    #[arg(long)]
    pub dry_run: bool,
}

/// Options of `docket`.
#[derive(Debug, Args)]
pub struct DocketCommand {
    #[command(subcommand)]
    pub part: Option<DocketPart>,
}

/// What the docket can be asked.
#[derive(Debug, Subcommand)]
pub enum DocketPart {
    /// Show one entry, with the policy as it was
    Show {
        /// Its number
        id: u64,
    },
    /// Keep what can be read of a damaged docket, and say what was lost
    Mend,
    /// Show which packets two entries treat differently, or an entry and the policy
    Compare {
        /// The one entry
        id: u64,
        /// The other one; the policy if left out
        other: Option<u64>,
    },
}

/// Options of the process that watches over a change.
#[derive(Debug, Args)]
pub struct StandBy {
    /// The entry
    pub id: u64,
}

/// Options of `reach`.
#[derive(Debug, Args)]
pub struct Reach {
    /// Places or addresses to ask about; every place of the policy, and anywhere, if left out
    #[arg(long, value_name = "PLACE|ADDRESS", num_args = 1.., add = Names::new(places))]
    pub from: Vec<String>,
    #[command(flatten)]
    pub looking: Looking,
}

/// From where a host is looked at.
#[derive(Debug, Args)]
pub struct Looking {
    /// Send real probes from a machine at a place: PLACE=ssh://[USER@]HOST[:PORT], or from a network namespace: PLACE=netns:PATH
    #[arg(long, value_name = "PLACE=WAY", value_parser = Vantage::parse)]
    pub vantage: Vec<Vantage>,
    /// Likewise, by a command that gives a byte stream to `tipstaff vantage` there
    #[arg(long, value_name = "PLACE=COMMAND", value_parser = Vantage::parse_command)]
    pub vantage_command: Vec<Vantage>,
    /// How many seconds a probe waits for an answer
    #[arg(long, value_name = "SECONDS", default_value = "1", value_parser = seconds)]
    pub patience: Duration,
}

impl Looking {
    /// All of them.
    pub fn vantages(&self) -> Vec<Vantage> {
        self.vantage.iter().chain(&self.vantage_command).cloned().collect()
    }
}

/// Options of `report`.
#[derive(Debug, Args)]
pub struct ReportOptions {
    /// The host is this machine: also look at what listens on it, and try it
    #[arg(long)]
    pub live: bool,
    #[command(flatten)]
    pub looking: Looking,
}

/// Options of `vantage`.
#[derive(Debug, Args)]
pub struct VantageEnd {
    /// An address of the asking host that may be probed although nothing else shows that it is its own
    #[arg(long = "for", value_name = "ADDRESS")]
    pub vouched: Vec<IpAddr>,
}

/// Options of `rehearse`.
#[derive(Debug, Args)]
pub struct Rehearse {
    /// Try a copy of this machine as it stands, with all its rules and listeners, rather than the policy
    #[arg(long)]
    pub live: bool,
    /// Places or addresses to try from; everybody if left out
    #[arg(long, value_name = "PLACE|ADDRESS", num_args = 1.., add = Names::new(places))]
    pub from: Vec<String>,
    /// The traffic to try, such as 9100/tcp; every TCP and UDP port and ICMP type if left out
    #[arg(long, value_name = "TRAFFIC")]
    pub traffic: Option<String>,
}

/// Options of `demo`.
#[derive(Debug, Args)]
pub struct Demo {
    /// Set by the demo itself when it runs inside the lab
    #[arg(long, hide = true)]
    pub sealed: bool,
}

/// Options of a stand-in program.
#[derive(Debug, Args)]
pub struct StandIn {
    /// Where to listen: tcp:PORT, udp:PORT (both IP versions), tcp4:PORT, ...
    pub listen: Vec<String>,
}

fn waiting(text: &str) -> Result<Duration, String> {
    text.parse()
        .ok()
        .filter(|seconds| (1..=86_400).contains(seconds))
        .map(Duration::from_secs)
        .ok_or_else(|| "expected a whole number of seconds from 1 to 86400".into())
}

fn seconds(text: &str) -> Result<Duration, String> {
    text.parse()
        .ok()
        .filter(|seconds| (0.01..=60.0).contains(seconds))
        .map(Duration::from_secs_f64)
        .ok_or_else(|| "expected a number of seconds from 0.01 to 60".into())
}

impl Staying {
    /// As a transaction takes them.
    pub fn options<'g>(&self, home: &'g Home) -> transaction::Options<'g> {
        transaction::Options {
            home,
            keep: self.keep,
            within: self.confirm_within,
            dry: false,
            without_programs: false,
            even_if_locked_out: false,
            not_this_machine: false,
            all: false,
            boot_memory: transaction::FOR_A_BOOT,
            tell: None,
        }
    }
}

impl DirectionWord {
    /// As the core has it.
    pub fn direction(self) -> Direction {
        match self {
            Self::Inbound => Direction::Inbound,
            Self::Outbound => Direction::Outbound,
            Self::Forwarded => Direction::Forwarded,
        }
    }
}
