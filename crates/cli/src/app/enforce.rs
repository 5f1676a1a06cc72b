//! `enforce` and `release`: rules into the kernel, and out of it.

use super::{Failure, Loaded};
use serde::Serialize;
use std::collections::BTreeMap;
use tipstaff_core::plan::Kind;
use tipstaff_core::program::RuleProgram;
use tipstaff_linux::ruleset::{self, Snapshot};
use tipstaff_linux::{NetlinkSocket, Protocol};

/// What `enforce` changed.
#[derive(Debug, Serialize)]
pub struct Report {
    /// The host whose policy is now in force.
    pub host: String,
    /// The host whose policy was in force before; `null` if none was.
    pub replaced: Option<String>,
    /// How many rules of the policy are in force.
    pub rules: usize,
    /// How many rules of the policy are paused.
    pub paused: usize,
    /// Decisions that are new.
    pub new: Vec<String>,
    /// Decisions that were there and do something else now.
    pub changed: Vec<String>,
    /// Decisions that are gone.
    pub gone: Vec<String>,
    /// Whether those that were there before stand in another order now.
    pub reordered: bool,
}

/// Puts the policy's rules into the kernel.
///
/// # Errors
/// [`Failure`] if the kernel refuses; then it holds what it held before.
pub fn enforce(loaded: &Loaded) -> Result<Report, Failure> {
    let plan = &loaded.plan;
    let in_kernel = |error| Failure::in_kernel(error, &loaded.source, plan);
    let mut kernel = NetlinkSocket::open(Protocol::Netfilter)?;
    let before = ruleset::read(&mut kernel)?;
    ruleset::enforce(&mut kernel, &plan.host, &loaded.program).map_err(in_kernel)?;
    Ok(report(loaded, before.as_ref()))
}

fn report(loaded: &Loaded, before: Option<&Snapshot>) -> Report {
    let written = || loaded.plan.decisions().filter(|it| it.1.id.kind == Kind::Rule);
    let mut report = Report {
        host: loaded.plan.host.clone(),
        replaced: before.map(|before| before.host.clone()),
        rules: written().filter(|it| !it.1.paused).count(),
        paused: written().filter(|it| it.1.paused).count(),
        new: Vec::new(),
        changed: Vec::new(),
        gone: Vec::new(),
        reordered: false,
    };
    let Some(before) = before else { return report };
    let (old, new) = (by_name(&before.program), by_name(&loaded.program));
    let only = |these: &Served, those: &Served| -> Vec<String> {
        these.keys().filter(|name| !those.contains_key(*name)).cloned().collect()
    };
    report.new = only(&new, &old);
    report.gone = only(&old, &new);
    let differs = |(name, rules): &(&String, &Vec<String>)| {
        old.get(*name).is_some_and(|before| before != *rules)
    };
    report.changed = new.iter().filter(differs).map(|(name, _)| name.clone()).collect();
    report.reordered = order(&before.program, &new) != order(&loaded.program, &old);
    report
}

/// For each decision, everything that serves it, chain by chain.
type Served = BTreeMap<String, Vec<String>>;

fn by_name(program: &RuleProgram) -> Served {
    let mut served = Served::new();
    for chain in &program.chains {
        for rule in &chain.rules {
            let part = format!("{}: {rule}", chain.name);
            served.entry(rule.id.to_string()).or_default().push(part);
        }
    }
    served
}

/// The decisions that are also in `others`, in order.
fn order(program: &RuleProgram, others: &Served) -> Vec<String> {
    let rules = program.chains.iter().flat_map(|chain| &chain.rules);
    let mut order: Vec<String> = rules.map(|rule| rule.id.to_string()).collect();
    order.dedup();
    order.retain(|name| others.contains_key(name));
    order
}

/// What `release` changed.
#[derive(Debug, Serialize)]
pub struct Released {
    /// Whether there was anything to take out.
    pub released: bool,
    /// The host whose policy was in force.
    pub host: Option<String>,
}

/// Takes our rules out of the kernel.
///
/// # Errors
/// [`Failure`] if the kernel refuses.
pub fn release() -> Result<Released, Failure> {
    let mut kernel = NetlinkSocket::open(Protocol::Netfilter)?;
    let host = ruleset::read(&mut kernel)?.map(|snapshot| snapshot.host);
    let released = ruleset::release(&mut kernel)?;
    Ok(Released { released, host })
}
