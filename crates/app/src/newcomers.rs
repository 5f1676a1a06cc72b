//! `newcomers`: what began to listen where it did not before, and what the policy says of it.

use crate::asked::{self, Answer, Question};
use crate::store::Home;
use crate::store::listening::{Heard, heard, write_heard};
use crate::users::Users;
use crate::vocabulary as say;
use crate::{Failure, Loaded, Outcome, now};
use serde::Serialize;
use std::collections::{BTreeSet, HashSet};
use std::io;
use std::net::IpAddr;
use std::ops::RangeInclusive;
use std::time::Duration;
use tipstaff_core::policy::Verdict;
use tipstaff_core::space::Direction;
use tipstaff_linux::Machine;
use tipstaff_linux::sockets::{Listener, PortProtocol, Waiting};

/// How long somebody else may hold what is written down.
const PATIENCE: Duration = Duration::from_secs(5);
/// The ports that programs get who only speak to others.
const PASSING: &str = "/proc/sys/net/ipv4/ip_local_port_range";

/// What listens that nobody has said he knows.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// The host of the policy.
    pub host: String,
    /// They, the first to be seen first.
    pub newcomers: Vec<Newcomer>,
    /// Whether nobody had looked before: then all that listens counts as known.
    pub first: bool,
    /// How many of them were made known by this.
    pub made_known: usize,
    /// What could not be seen, as whole sentences.
    pub unseen: Vec<String>,
}

/// Something that listens.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Newcomer {
    /// Whose it is: the path of a program, or a user where that cannot be seen.
    pub whose: String,
    /// Where it listens, as a traffic term.
    pub traffic: String,
    /// Since when that is known (RFC 3339).
    pub since: String,
    /// Whether it listens now.
    pub listens: bool,
    /// Who can reach it by the policy: `everybody`, `some`, `nobody`; `null` if that is not known.
    pub reached_by: Option<say::ReachedBy>,
    /// What the policy does with whom.
    pub answers: Vec<Answer>,
    /// The command that would admit whom you name; where everybody is admitted, nobody else.
    pub to_admit: String,
    /// The command that would have it stay shut, or shut it.
    pub to_shut: String,
}

impl Report {
    /// Whether nothing new listens, as an exit code says it.
    pub fn outcome(&self) -> Outcome {
        let new = self.newcomers.len() > self.made_known;
        if new { Outcome::Found } else { Outcome::Fine }
    }
}

/// What came since somebody looked last.
pub(crate) struct Look {
    /// All that was ever seen.
    all: Vec<Heard>,
    /// What listens now.
    now: BTreeSet<(String, String)>,
    /// What was not there before.
    pub new: Vec<Heard>,
    /// Whether nobody had looked before.
    first: bool,
    /// What could not be seen.
    unseen: Vec<String>,
}

/// Looks at what listens, and writes down what is new.
///
/// # Errors
/// [`Failure`] if the kernel does not let us look, or what was seen before cannot be read.
pub(crate) fn look(machine: &dyn Machine, home: &Home) -> Result<Look, Failure> {
    // Whoever else looks waits, so that nothing is written over. Who may not lock may not write either.
    let _lock = home.lock(PATIENCE).ok();
    let before = heard(home).map_err(|why| Failure::System {
        message: format!("what listened before is not known: {why}"),
        help: vec!["remove that file to begin anew: then all that listens counts as known".into()],
    })?;
    let listed = machine.listeners()?;
    let users = Users::of(machine);
    let passing = passing(machine);
    let from_outside = |it: &&Listener| from_outside((it.protocol, it.address, it.port), &passing);
    let time = now().to_string();
    let first = before.is_none();
    let mut all = before.unwrap_or_default();
    let (mut here, mut new) = (BTreeSet::new(), Vec::new());
    for listener in listed.found.iter().filter(from_outside) {
        let (whose, traffic) =
            (whose(listener, &users), format!("{}/{}", listener.port, listener.protocol));
        let known = all.iter().any(|it| it.whose == whose && it.traffic == traffic);
        if !known {
            let heard = Heard {
                whose: whose.clone(),
                traffic: traffic.clone(),
                since: time.clone(),
                known: first,
            };
            all.push(heard.clone());
            new.extend((!first).then_some(heard));
        }
        here.insert((whose, traffic));
    }
    if first || !new.is_empty() {
        // Where nothing can be written, the next look finds it again.
        let _ = write_heard(home, &mut all, |it| listens(&here, it));
    }
    let unseen = listed.unseen().map(|it| format!("not seen: {it}")).collect();
    Ok(Look { all, now: here, new, first, unseen })
}

fn listens(here: &BTreeSet<(String, String)>, heard: &Heard) -> bool {
    here.contains(&(heard.whose.clone(), heard.traffic.clone()))
}

fn whose(listener: &Listener, users: &Users) -> String {
    let program = listener.owner.as_ref().and_then(|it| it.program.as_ref());
    match program {
        Some(path) => path.to_string_lossy().into_owned(),
        None => format!("user {}", users.name(listener.uid)),
    }
}

fn passing(machine: &dyn Machine) -> RangeInclusive<u16> {
    let text = machine.setting(PASSING).unwrap_or_default();
    let mut ends = text.split_whitespace().filter_map(|it| it.parse().ok());
    ends.next().unwrap_or(32_768)..=ends.next().unwrap_or(60_999)
}

/// What waits for traffic from outside, without whose it is: as long as nothing else does, there is nothing new but
/// where a socket was handed over. `None` if it cannot be listed.
pub(crate) fn waiting(machine: &dyn Machine) -> Option<HashSet<Waiting>> {
    let passing = passing(machine);
    let concerns = |it: &Waiting| from_outside((it.protocol, it.address, it.port), &passing);
    Some(machine.unowned_listeners().ok()?.into_iter().filter(concerns).collect())
}

fn from_outside(
    (protocol, address, port): (PortProtocol, IpAddr, u16),
    passing: &RangeInclusive<u16>,
) -> bool {
    let one_of_many = protocol == PortProtocol::Udp && passing.contains(&port);
    !address.to_canonical().is_loopback() && !one_of_many
}

/// Tells of each what the policy says of it.
///
/// # Errors
/// As for the look, or if what is made known cannot be written down.
pub fn report(
    machine: &dyn Machine,
    home: &Home,
    policy: &Loaded,
    make_known: bool,
) -> Result<Report, Failure> {
    let seen = look(machine, home)?;
    let open: Vec<Heard> = seen.all.iter().filter(|it| !it.known).cloned().collect();
    let newcomers = open.iter().map(|it| newcomer(it, listens(&seen.now, it), Some(policy)));
    let newcomers: Vec<Newcomer> = newcomers.collect();
    let made_known = if make_known { newcomers.len() } else { 0 };
    if make_known {
        make_all_known(home, &open).map_err(|error| Failure::System {
            message: format!(
                "cannot write down what is known, in {}: {error}",
                home.folder.display()
            ),
            help: vec!["nothing was changed".into()],
        })?;
    }
    let host = policy.plan.host.clone();
    Ok(Report { host, newcomers, first: seen.first, made_known, unseen: seen.unseen })
}

/// Those are known from now on; what came meanwhile is not.
fn make_all_known(home: &Home, told: &[Heard]) -> io::Result<()> {
    let _lock = home.lock(PATIENCE)?;
    let mut all = heard(home).map_err(io::Error::other)?.unwrap_or_default();
    let is_told =
        |it: &Heard| told.iter().any(|one| (&one.whose, &one.traffic) == (&it.whose, &it.traffic));
    all.iter_mut().filter(|it| is_told(it)).for_each(|it| it.known = true);
    write_heard(home, &mut all, |_| true)
}

/// One of them, and what a policy says of it, if there is one.
pub(crate) fn newcomer(heard: &Heard, listens: bool, policy: Option<&Loaded>) -> Newcomer {
    let traffic = heard.traffic.clone();
    let question = Question::Who(traffic.clone());
    let answers = policy.and_then(|it| asked::report(it, &question, Direction::Inbound, None).ok());
    let answers = answers.map(|it| it.answers);
    let reached_by = answers.as_ref().map(|list| {
        let admits = |it: &Answer| it.verdict == Verdict::Allow.into();
        match (list.iter().any(admits), list.iter().all(admits)) {
            (false, _) => say::ReachedBy::Nobody,
            (true, true) => say::ReachedBy::Everybody,
            (true, false) => say::ReachedBy::Some,
        }
    });
    let name = name_for(&heard.whose, &traffic);
    let to_shut = match reached_by {
        Some(say::ReachedBy::Nobody) | None => {
            format!("tipstaff expect add deny {traffic}")
        }
        Some(_) => format!("tipstaff rule add no-{name} --deny {traffic} --first"),
    };
    // Where everybody is admitted, by a rule, others are admitted by narrowing that.
    let admitting =
        answers.iter().flatten().flat_map(|it| &it.by).find(|it| it.kind == say::Origin::Rule);
    let to_admit = match (reached_by, admitting) {
        (Some(say::ReachedBy::Everybody), Some(rule)) => {
            format!("tipstaff rule change {} --from PLACE", rule.name)
        }
        _ => format!("tipstaff rule add {name} --allow {traffic} --from PLACE"),
    };
    Newcomer {
        whose: heard.whose.clone(),
        since: heard.since.clone(),
        listens,
        reached_by,
        answers: answers.unwrap_or_default(),
        to_admit,
        to_shut,
        traffic,
    }
}

/// A name for a rule about it.
fn name_for(whose: &str, traffic: &str) -> String {
    let program = whose.rsplit('/').next().filter(|_| whose.starts_with('/')).unwrap_or("port");
    let plain = |it: char| it.is_ascii_alphanumeric();
    let words = format!("{program}-{}", traffic.split('/').next().unwrap_or_default());
    let name: String = words
        .chars()
        .map(|it| if plain(it) { it.to_ascii_lowercase() } else { '-' })
        .take(40)
        .collect();
    name.trim_matches('-').to_owned()
}
