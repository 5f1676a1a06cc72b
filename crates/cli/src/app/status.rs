//! `status`: what the kernel holds, and whether that is what the policy says.

use super::{Failure, Loaded, PacketWords};
use crate::exit::Exit;
use serde::Serialize;
use std::fs;
use tipstaff_core::plan::HostPlan;
use tipstaff_core::program::{Drift, RuleProgram, compare};
use tipstaff_core::space::{Direction, Packet};
use tipstaff_linux::ruleset::{self, OtherTable, Snapshot, Tally};
use tipstaff_linux::{NetlinkSocket, Protocol};

/// What the kernel holds.
#[derive(Debug, Serialize)]
pub struct Report {
    /// The host of the policy.
    pub host: String,
    /// Whether our table is in the kernel and awake.
    pub in_force: bool,
    /// Whether somebody has put our table to sleep.
    pub dormant: bool,
    /// The host whose policy the table was made from.
    pub enforced_host: Option<String>,
    /// Whether the kernel's rules are the policy's; `null` if there are none.
    pub equal: Option<bool>,
    /// Whether the rules will be there after a reboot: nothing loads them by itself yet.
    pub after_reboot: bool,
    /// Where they differ.
    pub differences: Vec<Difference>,
    /// What each decision has taken so far.
    pub rules: Vec<RuleCount>,
    /// Tables of others that also see packets.
    pub others: Vec<Other>,
    /// Tables of the kernel's older packet filter that are loaded.
    pub older_tables: Vec<String>,
}

impl Report {
    /// The exit code that belongs to the report.
    pub fn exit(&self) -> Exit {
        if self.in_force && self.equal == Some(true) { Exit::Fine } else { Exit::Found }
    }
}

/// One difference between policy and kernel.
#[derive(Debug, Serialize)]
pub struct Difference {
    /// In plain words.
    pub message: String,
    /// A packet that the two treat differently, if one was found.
    pub witness: Option<Witness>,
}

/// A packet that policy and kernel treat differently.
#[derive(Debug, Serialize)]
pub struct Witness {
    /// The packet.
    pub packet: PacketWords,
    /// What the policy does with it.
    pub policy: &'static str,
    /// What the kernel's rules do with it; `unknown` if they are not understood.
    pub kernel: &'static str,
}

/// What a decision has taken.
#[derive(Debug, Serialize)]
pub struct RuleCount {
    /// `inbound`, `outbound` or `forwarded`.
    pub direction: &'static str,
    /// `baseline`, `rule` or `default`.
    pub kind: &'static str,
    /// Its name.
    pub name: String,
    /// `allow`, `deny` or `reject`; `null` for a rule that the policy does not have.
    pub verdict: Option<&'static str>,
    /// Packets; for a rate, those within it.
    pub packets: u64,
    /// Bytes of those.
    pub bytes: u64,
    /// For a rate, the packets beyond it.
    pub excess_packets: Option<u64>,
    /// Bytes of those.
    pub excess_bytes: Option<u64>,
}

/// A table of somebody else.
#[derive(Debug, Serialize)]
pub struct Other {
    /// Which packets it sees.
    pub family: &'static str,
    /// Its name.
    pub name: String,
    /// Its chains that packets enter.
    pub chains: Vec<OtherChain>,
}

/// A chain of somebody else.
#[derive(Debug, Serialize)]
pub struct OtherChain {
    /// Its name.
    pub name: String,
    /// Where it hangs.
    pub hook: String,
    /// `filter`, `nat` or `route`.
    pub kind: String,
    /// Its priority.
    pub priority: i32,
    /// Whether it sees packets before our rules do.
    pub before_ours: bool,
    /// Whether it drops what it leaves undecided.
    pub drops_the_rest: bool,
}

/// Makes the report.
///
/// # Errors
/// [`Failure`] if the kernel cannot be read.
pub fn report(loaded: &Loaded) -> Result<Report, Failure> {
    let mut kernel = NetlinkSocket::open(Protocol::Netfilter)?;
    let snapshot = ruleset::read(&mut kernel)?;
    let others = ruleset::others(&mut kernel)?;
    let differences = snapshot.as_ref().map(|it| differences(loaded, &it.program));
    Ok(Report {
        host: loaded.plan.host.clone(),
        in_force: snapshot.as_ref().is_some_and(|it| !it.dormant),
        dormant: snapshot.as_ref().is_some_and(|it| it.dormant),
        enforced_host: snapshot.as_ref().map(|it| it.host.clone()),
        equal: differences.as_ref().map(Vec::is_empty),
        after_reboot: false,
        differences: differences.unwrap_or_default(),
        rules: snapshot.as_ref().map(|it| counts(it, &loaded.plan)).unwrap_or_default(),
        others: others.into_iter().map(other).collect(),
        older_tables: older_tables(),
    })
}

fn counts(snapshot: &Snapshot, plan: &HostPlan) -> Vec<RuleCount> {
    let count = |tally: &Tally| RuleCount {
        direction: tally.direction.as_str(),
        kind: tally.id.kind.as_str(),
        name: tally.id.to_string(),
        verdict: plan.find(&tally.id).map(|decision| decision.act.verdict().as_str()),
        packets: tally.taken.packets,
        bytes: tally.taken.bytes,
        excess_packets: tally.excess.map(|it| it.packets),
        excess_bytes: tally.excess.map(|it| it.bytes),
    };
    snapshot.tallies.iter().map(count).collect()
}

fn differences(loaded: &Loaded, found: &RuleProgram) -> Vec<Difference> {
    let drifts = compare(&loaded.program, found);
    drifts
        .iter()
        .map(|drift| Difference { message: words(drift), witness: witness(drift, loaded, found) })
        .collect()
}

fn words(drift: &Drift) -> String {
    match drift {
        Drift::MissingChain(chain) => format!("the kernel has no chain `{chain}`"),
        Drift::ExtraChain(chain) => {
            format!("the kernel has a chain `{chain}` that the policy does not ask for")
        }
        Drift::ChangedChain(chain) => {
            format!("the kernel's chain `{chain}` hangs or ends otherwise than the policy asks")
        }
        Drift::MissingRule { chain, rule } => {
            format!("the kernel lacks a part of `{}` ({chain}): {rule}", rule.id)
        }
        Drift::ExtraRule { chain, rule } => {
            format!("the kernel has one more part of `{}` ({chain}): {rule}", rule.id)
        }
        Drift::Reordered(chain) => {
            format!("the kernel has rules of `{chain}` in another order")
        }
    }
}

/// A packet made from the differing rule, if policy and kernel indeed treat it differently.
fn witness(drift: &Drift, loaded: &Loaded, found: &RuleProgram) -> Option<Witness> {
    let rule = drift.rule()?;
    let (Drift::MissingRule { chain, .. } | Drift::ExtraRule { chain, .. }) = drift else {
        return None;
    };
    let direction = Direction::parse(chain)?;
    let packet: Packet = rule.example(direction, &loaded.plan.addresses)?;
    let policy = loaded.plan.evaluate(&packet);
    let kernel = found.evaluate(&packet);
    if kernel.as_ref().is_some_and(|it| it.verdict == policy.verdict) {
        return None;
    }
    Some(Witness {
        packet: PacketWords::of(&packet),
        policy: policy.verdict.as_str(),
        kernel: kernel.map_or("unknown", |it| it.verdict.as_str()),
    })
}

fn other(table: OtherTable) -> Other {
    let chains = table.chains.into_iter().map(|chain| OtherChain {
        name: chain.name,
        hook: chain.hook,
        kind: chain.kind,
        priority: chain.priority,
        before_ours: chain.priority < 0,
        drops_the_rest: chain.drops,
    });
    Other { family: table.family, name: table.name, chains: chains.collect() }
}

/// The kernel lists its older filter's tables in two files, which only root can read.
fn older_tables() -> Vec<String> {
    let files = [
        ("IPv4", "/proc/thread-self/net/ip_tables_names"),
        ("IPv6", "/proc/thread-self/net/ip6_tables_names"),
    ];
    let mut found = Vec::new();
    for (version, file) in files {
        let names = fs::read_to_string(file).unwrap_or_default();
        found.extend(names.lines().map(|name| format!("{version} {name}")));
    }
    found
}
