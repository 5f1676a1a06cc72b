//! `status`: what the kernel holds, and whether that is what the policy says.

use super::listing::{PlaceAge, ages};
use super::{
    Failure, Loaded, PacketWords, beside, likely_packet, logging, posture, programs, transaction,
};
use crate::Outcome;
use crate::attend::is_attended;
use crate::store::{
    Docket, Entry, Home, Kind as EntryKind, Note, State, Watcher, Written, digest, pending,
};
use crate::vocabulary as say;
use serde::Serialize;
use std::borrow::Cow;
use std::collections::HashMap;
use tipstaff_core::meaning::{Atlas, Difference as MeaningDifference, Fate};
use tipstaff_core::plan::{Decision, HostPlan, RuleId};
use tipstaff_core::program::{Drift, compare};
use tipstaff_core::space::Direction;
use tipstaff_linux::Machine;
use tipstaff_linux::ruleset::{Denies, OtherTable, Snapshot, Tally};

/// What the kernel holds.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// The host of the policy.
    pub host: String,
    /// Whether our table is in the kernel and awake.
    pub in_force: bool,
    /// Whether somebody has put our table to sleep.
    pub dormant: bool,
    /// The host whose policy the table was made from.
    pub enforced_host: Option<String>,
    /// Whether every packet fares by the kernel's rules as by the policy; `null` if there are
    /// none.
    pub equal: Option<bool>,
    /// Whether the kernel's rules are also in the form in which they were given; `null` if there
    /// are none.
    pub same_form: Option<bool>,
    /// What the docket says; `null` if it may not be read, or has nothing to say.
    pub docket: Option<InDocket>,
    /// What is wrong with what is kept on disk, as whole sentences: damaged lines and policies, and
    /// what a boot would not know.
    pub kept_trouble: Vec<String>,
    /// Rules that name interfaces which are not there, as whole sentences.
    pub odd_interfaces: Vec<String>,
    /// How things stand with the programs that rules in force name; `null` if that may not be
    /// looked at.
    pub programs: Option<programs::Report>,
    /// Rules that were left out since they name programs, as was chosen when they were enforced.
    pub left_out: Vec<String>,
    /// Whether what was confirmed last will be in force after a reboot: whether something is set up
    /// that loads it.
    pub after_reboot: bool,
    /// What loads it: `systemd`, `openrc`; `null` if nothing does.
    pub boot_service: Option<say::BootService>,
    /// Where they differ: first which packets fare differently, then what differs in form.
    pub differences: Vec<Difference>,
    /// What each decision has taken so far.
    pub rules: Vec<RuleCount>,
    /// The posture in force, with since when, until when and why; `null` if none is, or if that may not be looked at.
    pub posture: Option<posture::Report>,
    /// The places whose addresses come from files, with how old what they hold is.
    pub places: Vec<PlaceAge>,
    /// Whether `attend` does at once what otherwise the next command does; `null` if that cannot be told.
    pub attended: Option<bool>,
    /// What the kernel reports of decisions; `null` if nothing.
    pub logging: Option<logging::Report>,
    /// Tables of others that also see packets.
    pub others: Vec<Other>,
    /// Tables of the kernel's older packet filter that are loaded.
    pub older_tables: Vec<String>,
}

/// What the docket says of what is in force.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct InDocket {
    /// The last entry that is in force, or should be.
    pub entry: u64,
    /// Since when it has been in force, in UTC.
    pub since: String,
    /// Whether it was confirmed.
    pub confirmed: bool,
    /// Whether it was loaded by itself at the last boot.
    pub loaded_at_boot: bool,
    /// Whether the policy of that entry is the one asked about, to the letter.
    pub same_policy: bool,
    /// The entry that went back and whose policy is what the file says now; `null` if it is none.
    pub went_back: Option<u64>,
    /// The entry that waits to be confirmed.
    pub pending: Option<u64>,
    /// In how many seconds that goes back.
    pub seconds_left: Option<u64>,
    /// Whether the process lives that sees to it.
    pub watched: Option<bool>,
}

impl Report {
    /// Whether all is as meant, as an exit code says it.
    pub fn outcome(&self) -> Outcome {
        let programs = self.programs.as_ref().is_none_or(|it| it.outcome() == Outcome::Fine);
        let kept = self.kept_trouble.is_empty();
        let open =
            self.posture.as_ref().is_none_or(|it| it.outcome() == Outcome::Fine && !it.is_shut());
        if self.in_force && self.equal == Some(true) && programs && kept && open {
            Outcome::Fine
        } else {
            Outcome::Found
        }
    }
}

/// One difference between policy and kernel.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Difference {
    /// The difference in plain words.
    pub message: String,
    /// A packet that the two treat differently; `null` if they differ in form alone.
    pub witness: Option<Witness>,
}

/// A packet that policy and kernel treat differently.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Witness {
    /// A packet that fares differently.
    pub packet: PacketWords,
    /// What the policy does with it.
    pub policy: say::Word,
    /// What the kernel's rules do with it; `unknown` if they are not understood.
    pub kernel: say::Word,
}

/// What a decision has taken.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct RuleCount {
    /// `inbound`, `outbound` or `forwarded`.
    pub direction: say::Direction,
    /// `baseline`, `rule` or `default`.
    pub kind: say::Origin,
    /// The name of the decision.
    pub name: String,
    /// `allow`, `deny` or `reject`; `null` for a rule that the policy does not have.
    pub verdict: Option<say::Verdict>,
    /// Packets; for a rate, those within it.
    pub packets: u64,
    /// The bytes of those packets, IP headers included.
    pub bytes: u64,
    /// For a rate, the packets beyond it.
    pub excess_packets: Option<u64>,
    /// The bytes of the packets beyond the rate.
    pub excess_bytes: Option<u64>,
    /// For a rate per source, the packets of senders for which there was no room to be told apart;
    /// they are counted among the others too.
    pub crowded_packets: Option<u64>,
}

/// A table of somebody else.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Other {
    /// Which packets it sees.
    pub family: say::Sees,
    /// The path by which rules name it.
    pub name: String,
    /// Its chains that packets enter.
    pub chains: Vec<OtherChain>,
    /// Whether it can keep packets out that this policy allows: `never`, `can`, or `perhaps` if
    /// something in it is not understood.
    pub denies: say::Denies,
    /// Whether it can let in what this policy denies, by leading packets elsewhere before the policy's rules see them.
    pub leads: bool,
    /// How many rules it has.
    pub rules: usize,
}

/// A chain of somebody else.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct OtherChain {
    /// The name that its owner gave it.
    pub name: String,
    /// The hook in the packet path at which it hangs.
    pub hook: String,
    /// `filter`, `nat` or `route`.
    pub kind: String,
    /// Its place at that hook; lower ones come first.
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
pub fn report(machine: &dyn Machine, loaded: &Loaded, home: &Home) -> Result<Report, Failure> {
    report_of(machine, loaded, home, machine.rules()?.as_ref())
}

/// Likewise, of a policy that is read while the kernel's rules are.
///
/// # Errors
/// As for [`report`], or if the policy cannot be read.
pub fn report_beside(
    machine: &dyn Machine,
    home: &Home,
    read: impl FnOnce() -> Result<Loaded, Failure> + Send,
) -> Result<(Loaded, Report), Failure> {
    let (loaded, held) = beside::rules_beside(machine, read)?;
    let report = report_of(machine, &loaded, home, held.as_ref())?;
    Ok((loaded, report))
}

fn report_of(
    machine: &dyn Machine,
    loaded: &Loaded,
    home: &Home,
    snapshot: Option<&Snapshot>,
) -> Result<Report, Failure> {
    // Who may not look into the docket still learns the rest.
    let (written, kept_trouble) = kept(home);
    let entries = written.entries;
    let in_force = entries.iter().rev().find(|it| is_in_force(it));
    let mut as_chosen = Cow::Borrowed(loaded);
    if snapshot.is_some() && in_force.is_some_and(|it| it.without_programs) {
        // What was chosen then is what is to be compared with.
        as_chosen.to_mut().leave_out_programs();
    }
    let loaded = &*as_chosen;
    let others = machine.others()?;
    let compared = snapshot.map(|it| Compared::of(home, loaded, it));
    let marks = snapshot.map(|it| it.marks.clone()).unwrap_or_default();
    let last_confirmed = entries.iter().rev().find(|it| it.state == State::Confirmed);
    let confirmed = last_confirmed.is_some_and(|it| it.kind != EntryKind::Release);
    let docket = in_docket(&entries, loaded, home);
    Ok(Report {
        host: loaded.plan.host.clone(),
        programs: programs::of(machine, snapshot.map(|it| it.host.clone()), &marks).ok(),
        left_out: loaded.left_out(),
        in_force: snapshot.is_some_and(|it| !it.dormant),
        dormant: snapshot.is_some_and(|it| it.dormant),
        enforced_host: snapshot.map(|it| it.host.clone()),
        equal: compared.as_ref().map(|it| it.equal),
        same_form: compared.as_ref().map(|it| it.same_form),
        after_reboot: boot_service(machine).is_some() && confirmed,
        boot_service: boot_service(machine),
        docket,
        kept_trouble,
        odd_interfaces: super::live::odd_interfaces(loaded),
        differences: compared.map(|it| it.differences).unwrap_or_default(),
        rules: snapshot.map(|it| counts(it, &loaded.plan)).unwrap_or_default(),
        posture: posture::of_now(machine, home, loaded).filter(|it| it.posture.is_some()),
        places: ages(loaded, home),
        attended: is_attended(home),
        logging: logging::report(machine, snapshot, loaded.now),
        others: others.into_iter().map(other).collect(),
        older_tables: older_tables(machine),
    })
}

/// What the docket says, and what is wrong with what is kept.
fn kept(home: &Home) -> (Written, Vec<String>) {
    let written = match Docket::look(home) {
        Ok(written) => written,
        // Others than root are not meant to look.
        Err(_) if !rustix::process::geteuid().is_root() => return (Written::default(), Vec::new()),
        Err(failure) => return (Written::default(), vec![failure.line()]),
    };
    let mut trouble: Vec<String> = written
        .lost
        .iter()
        .map(|it| format!("line {} of the docket {}; `tipstaff docket mend`", it.line, it.why))
        .collect();
    trouble.extend(super::docket::damaged(home, &written.entries));
    if let Err(why) = pending(home) {
        trouble.push(format!("what waits cannot be read: {why}"));
    }
    let confirmed = written.confirmed().map(Note::of);
    match (Note::read(home), confirmed) {
        (Err(why), _) => trouble.push(format!("the note for the boot: {why}")),
        (Ok(None), Some(_)) if home.note.is_some() => trouble.push(
            "the note for the boot is missing: if the docket is lost too, a boot loads nothing; \
             `tipstaff docket mend`"
                .into(),
        ),
        (Ok(Some(noted)), confirmed)
            if confirmed.as_ref().map(|it| (it.entry, &it.policy))
                != Some((noted.entry, &noted.policy)) =>
        {
            trouble.push(match confirmed {
                Some(_) => format!(
                    "the note for the boot is about entry {}, and the docket about another; \
                     `tipstaff docket mend`",
                    noted.entry
                ),
                None => format!(
                    "entry {} was confirmed, by the note for the boot, and the docket has lost it; \
                     enforce again",
                    noted.entry
                ),
            });
        }
        _ => {}
    }
    (written, trouble)
}

fn in_docket(entries: &[Entry], loaded: &Loaded, home: &Home) -> Option<InDocket> {
    let last = entries.iter().rev().find(|it| is_in_force(it))?;
    let waits = pending(home).ok().flatten();
    let written = digest(&loaded.plan.host, &loaded.sources).0;
    let left = |deadline: u64| deadline.saturating_sub(transaction::since_boot()).div_ceil(1_000);
    Some(InDocket {
        entry: last.id,
        since: last.since.clone(),
        confirmed: last.state == State::Confirmed,
        loaded_at_boot: last.kind == EntryKind::Boot,
        same_policy: last.policy.as_ref() == Some(&written),
        went_back: entries
            .iter()
            .rev()
            .take_while(|it| it.id > last.id)
            .find(|it| it.state == State::Reverted && it.policy.as_ref() == Some(&written))
            .map(|it| it.id),
        pending: waits.as_ref().map(|it| it.id),
        seconds_left: waits.as_ref().map(|it| left(it.deadline)),
        watched: waits.map(|it| it.watcher.is_some_and(Watcher::lives)),
    })
}

fn is_in_force(entry: &Entry) -> bool {
    matches!(entry.state, State::Confirmed | State::Pending)
}

/// What can be set up to load the rules at boot, and what is there then.
pub(crate) fn boot_services() -> impl Iterator<Item = (say::BootService, String)> {
    let systemd = ["sysinit.target.wants", "network-pre.target.wants", "multi-user.target.wants"]
        .map(|it| {
            (say::BootService::Systemd, format!("/etc/systemd/system/{it}/tipstaff.service"))
        });
    let openrc = ["boot", "sysinit", "default"]
        .map(|it| (say::BootService::Openrc, format!("/etc/runlevels/{it}/tipstaff")));
    systemd.into_iter().chain(openrc)
}

/// What is set up to load the rules at boot.
fn boot_service(machine: &dyn Machine) -> Option<say::BootService> {
    boot_services().find(|it| machine.has(&it.1)).map(|it| it.0)
}

/// What the kernel has counted: for each decision of the plan, in its order, and then for what
/// the policy does not have.
fn counts(snapshot: &Snapshot, plan: &HostPlan) -> Vec<RuleCount> {
    let mut tallies: HashMap<(Direction, &RuleId), &Tally> =
        snapshot.tallies.iter().map(|it| ((it.direction, &it.id), it)).collect();
    let active = plan.decisions().filter(|(_, decision)| decision.idle.is_none());
    let mut list: Vec<RuleCount> = active
        .map(|(direction, decision)| {
            let tally = tallies.remove(&(direction, &decision.id));
            count(direction, &decision.id, Some(decision), tally)
        })
        .collect();
    // What holds once the posture is over is no stray.
    let of_now = snapshot.tallies.iter().filter(|it| !it.id.later);
    let strays = of_now.filter(|it| tallies.contains_key(&(it.direction, &it.id)));
    list.extend(strays.map(|it| count(it.direction, &it.id, None, Some(it))));
    list
}

/// A decision that no packet can reach is not in the kernel, and so has taken none.
fn count(
    direction: Direction,
    id: &RuleId,
    decision: Option<&Decision>,
    tally: Option<&Tally>,
) -> RuleCount {
    let taken = tally.map(|it| it.taken).unwrap_or_default();
    let excess = tally.and_then(|it| it.excess);
    RuleCount {
        direction: direction.into(),
        kind: id.kind.into(),
        name: id.to_string(),
        verdict: decision.map(|decision| decision.act.verdict().into()),
        packets: taken.packets,
        bytes: taken.bytes,
        excess_packets: excess.map(|it| it.packets),
        excess_bytes: excess.map(|it| it.bytes),
        crowded_packets: tally.and_then(|it| it.crowded).map(|it| it.packets),
    }
}

/// More differences than this help nobody.
const SHOWN: usize = 12;

/// Of a policy with more decisions, rules that have the form that it was given are not held against its own
/// meaning once more: that takes seconds, and what a policy is lowered to means what it does.
const PROVEN: usize = 2_000;

/// Policy and kernel, held against each other.
struct Compared {
    equal: bool,
    same_form: bool,
    differences: Vec<Difference>,
}

impl Compared {
    /// To the letter.
    fn same() -> Self {
        Self { equal: true, same_form: true, differences: Vec::new() }
    }

    /// The policy's own meaning is compared, not only what it was lowered to.
    fn of(home: &Home, loaded: &Loaded, snapshot: &Snapshot) -> Self {
        let is_long = loaded.plan.decisions().count() > PROVEN;
        if is_long && beside::are_known(home, loaded, snapshot) {
            return Self::same();
        }
        // Rules that have ended since they were enforced do nothing in the kernel either.
        let (given, found) =
            (loaded.program().as_of(loaded.now), snapshot.program.as_of(loaded.now));
        let drifts = compare(&given, &found);
        let same = drifts.is_empty() && snapshot.strays.is_empty();
        if same && is_long {
            return Self::same();
        }
        let mut atlas = Atlas::within(super::compare::NODES);
        let (meant, in_kernel) = (atlas.plan(&loaded.plan), atlas.program(&found));
        let meanings = atlas.differences(&meant, &in_kernel, SHOWN);
        let mut differences: Vec<Difference> =
            meanings.iter().map(|it| difference(&atlas, it, loaded)).collect();
        if atlas.is_exhausted() {
            // What has the form that it was given means what it was given for.
            let message =
                "the rules overlap in too many ways to tell where policy and kernel differ";
            let unclear = Difference { message: message.into(), witness: None };
            let differences = if same { Vec::new() } else { vec![unclear] };
            return Self { equal: same, same_form: drifts.is_empty(), differences };
        }
        let forms = drifts.iter().take(SHOWN - differences.len());
        let form = |drift: &Drift| Difference { message: drift.to_string(), witness: None };
        differences.extend(forms.map(form));
        // Rules that do not meet the listener do not mean what they say, and a chain of somebody
        // else may decide before them.
        let equal =
            meanings.is_empty() && !drifts.contains(&Drift::Reopened) && snapshot.strays.is_empty();
        Self { equal, same_form: drifts.is_empty(), differences }
    }
}

fn difference(atlas: &Atlas, difference: &MeaningDifference, loaded: &Loaded) -> Difference {
    let direction = difference.direction;
    let wanted = likely_packet(direction, &loaded.plan);
    let witness = atlas.example(&difference.region, &wanted).map(|packet| Witness {
        packet: PacketWords::of(&packet),
        policy: verdict(&difference.first),
        kernel: verdict(&difference.second),
    });
    let (first, second) = (&difference.first, &difference.second);
    let message = format!("{direction}: by the policy {first}, by the kernel's rules {second}");
    Difference { message, witness }
}

fn verdict(fate: &Fate) -> say::Word {
    fate.verdict().map_or(say::Word::Unknown, Into::into)
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
    let denies = match table.denies {
        Denies::Never => say::Denies::Never,
        Denies::Perhaps => say::Denies::Perhaps,
        Denies::Can => say::Denies::Can,
    };
    let (family, leads, rules) = (table.family.into(), table.leads, table.rules);
    Other { family, name: table.name, chains: chains.collect(), denies, leads, rules }
}

/// The kernel lists its older filter's tables in two files, which only root can read.
pub(crate) const OLDER_TABLES: [(&str, &str); 2] = [
    ("IPv4", "/proc/thread-self/net/ip_tables_names"),
    ("IPv6", "/proc/thread-self/net/ip6_tables_names"),
];

fn older_tables(machine: &dyn Machine) -> Vec<String> {
    let mut found = Vec::new();
    for (version, file) in OLDER_TABLES {
        let names = machine.setting(file).unwrap_or_default();
        found.extend(names.lines().map(|name| format!("{version} {name}")));
    }
    found
}
