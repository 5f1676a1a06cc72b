//! `callers`: who came, as the kernel remembers it.

mod advice;
mod group;
mod places;
mod row;
mod traffic;

pub(crate) use advice::of as advice;
pub(crate) use group::addresses;
pub(crate) use places::Places;
pub use row::{By, Row};
pub(crate) use traffic::{of as wanted_traffic, service, term};

use super::{Failure, Loaded, Outcome};
use crate::store::{Home, save_callers};
use crate::vocabulary as say;
use jiff::Timestamp;
use rustix::time::{ClockId, clock_gettime};
use serde::Serialize;
use std::time::Duration;
use tipstaff_core::policy::{Source, nearest, read_addresses, read_traffic};
use tipstaff_core::space::{AddressSet, TrafficSet};
use tipstaff_linux::ruleset::{self, Caller};
use tipstaff_linux::{Machine, Protocol};

/// What counts as lately where no time is given.
const LATELY: Duration = Duration::from_secs(86_400);

/// Which callers are asked for, and how they are put together.
#[derive(Clone, Debug, Default)]
pub struct Request {
    /// Only those who fared so.
    pub fared: Option<say::Fared>,
    /// Only what this decision decided.
    pub rule: Option<String>,
    /// Only these: places and addresses.
    pub from: Vec<String>,
    /// Only who came for this.
    pub traffic: Vec<String>,
    /// Only who came since so long ago.
    pub since: Option<Duration>,
    /// Only who came first in that time, or in the last day.
    pub new: bool,
    /// What is put together.
    pub by: Option<By>,
}

/// Who came.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// The host whose rules are in force.
    pub host: String,
    /// Whether also what is admitted is remembered, or only what is not.
    pub admitted_too: bool,
    /// For how many seconds after they came last.
    pub keeps_seconds: u32,
    /// How many entries there are.
    pub entries: usize,
    /// How many there can be.
    pub room: usize,
    /// How many packets found no room, or came too fast, since the rules were put in force.
    pub no_room: u64,
    /// How long the machine has slept since it was started, in seconds: the clock of the record stood still, and
    /// what came before came that much earlier than is told, at most.
    pub slept_seconds: u64,
    /// `sender`, `network`, `port` or `rule`: what is put together; `null` for every entry by itself.
    pub by: Option<By>,
    /// Those who were asked for; the last first, or where they are put together the most frequent.
    pub callers: Vec<Row>,
    /// Why names of places, and what would admit somebody, are missing, if they are.
    pub without_policy: Option<String>,
}

impl Report {
    /// How it ended.
    pub fn outcome(&self) -> Outcome {
        Outcome::Fine
    }
}

/// What was forgotten.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Cleared {
    /// How many entries there were.
    pub forgotten: usize,
}

/// What was written down.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Saved {
    /// How many entries.
    pub saved: usize,
}

/// What is asked for, read.
struct Wanted {
    from: Option<AddressSet>,
    traffic: Option<TrafficSet>,
}

/// Who came.
///
/// # Errors
/// [`Failure`] if the kernel remembers nothing, does not let us read it, or something named in the request is
/// nothing.
pub fn report(
    machine: &dyn Machine,
    policy: Result<&Loaded, &Failure>,
    request: &Request,
) -> Result<Report, Failure> {
    let held = machine.rules()?.filter(|it| !it.dormant);
    let Some(held) = held else { return Err(nothing_in_force()) };
    let Some(remembered) = machine.callers()? else {
        return Err(Failure::Stopped {
            message: "nothing is remembered of who came".into(),
            help: vec![
                "`record = \"denied\"` or `\"all\"` in the host's section has the kernel remember; \
                 then `tipstaff enforce`"
                    .into(),
            ],
        });
    };
    let wanted = read(policy, request)?;
    let now = Timestamp::now();
    let since = request.since.or(request.new.then_some(LATELY));
    let since = since.map(|it| u64::try_from(it.as_millis()).unwrap_or(u64::MAX));
    let mut chosen = Vec::new();
    for caller in &remembered.list {
        if is_wanted(caller, request, &wanted, since) {
            chosen.push(caller);
        }
    }
    if let Some(name) = &request.rule
        && chosen.is_empty()
    {
        knows(name, policy.ok(), &remembered.list)?;
    }
    let entries = remembered.list.len();
    let callers = group::rows(&chosen, request.by, policy.ok(), now);
    Ok(Report {
        host: held.host,
        admitted_too: remembered.admitted,
        keeps_seconds: remembered.keeps,
        entries,
        room: ruleset::MOST_CALLERS,
        no_room: remembered.no_room,
        slept_seconds: slept().as_secs(),
        by: request.by,
        callers,
        without_policy: policy.err().map(Failure::line),
    })
}

/// Forgets all who came.
///
/// # Errors
/// [`Failure`] if the kernel refuses.
pub fn clear(machine: &dyn Machine) -> Result<Cleared, Failure> {
    let Some(remembered) = machine.callers()? else {
        return Ok(Cleared { forgotten: 0 });
    };
    ruleset::forget(&mut machine.channel(Protocol::Netfilter)?)?;
    Ok(Cleared { forgotten: remembered.list.len() })
}

/// Writes down who came, for after a reboot.
///
/// # Errors
/// [`Failure`] if the kernel does not let us read it, or it cannot be written.
pub fn save(machine: &dyn Machine, home: &Home) -> Result<Saved, Failure> {
    let Some(remembered) = machine.callers()? else { return Ok(Saved { saved: 0 }) };
    save_callers(home, &remembered).map_err(|source| Failure::System {
        message: format!("who came cannot be written down: {source}"),
        help: Vec::new(),
    })?;
    Ok(Saved { saved: remembered.list.len() })
}

fn nothing_in_force() -> Failure {
    Failure::Stopped {
        message: "no rules are in force, so nothing is remembered of who came".into(),
        help: vec!["`tipstaff enforce` puts rules in force".into()],
    }
}

fn read(policy: Result<&Loaded, &Failure>, request: &Request) -> Result<Wanted, Failure> {
    let needs = !request.from.is_empty() || !request.traffic.is_empty();
    let loaded = match policy {
        Ok(loaded) => Some(loaded),
        Err(failure) if needs => {
            return Err(Failure::usage(
                format!("what is asked for cannot be read without a policy: {}", failure.line()),
                "without `--from` and `--traffic` it works without one",
            ));
        }
        Err(_) => None,
    };
    let Some(loaded) = loaded else { return Ok(Wanted { from: None, traffic: None }) };
    let policy = &loaded.policy;
    let mut wanted = Wanted { from: None, traffic: None };
    for text in &request.from {
        let source = Source::new("--from", text);
        let more = read_addresses(policy, &source)
            .map_err(|problems| Failure::Input { sources: vec![source], problems })?;
        wanted.from = Some(wanted.from.map_or_else(|| more.clone(), |all| all.union(&more)));
    }
    for text in &request.traffic {
        let source = Source::new("--traffic", text);
        let more = read_traffic(policy, &source)
            .map_err(|problems| Failure::Input { sources: vec![source], problems })?;
        wanted.traffic = Some(wanted.traffic.map_or_else(|| more.clone(), |all| all.union(&more)));
    }
    Ok(wanted)
}

fn is_wanted(caller: &Caller, request: &Request, wanted: &Wanted, since: Option<u64>) -> bool {
    let fared = |it: say::Fared| (it == say::Fared::Admitted) == caller.admitted;
    let lately = |since: u64| match request.new {
        true => caller.first.is_some_and(|first| first <= since),
        false => caller.last <= since,
    };
    request.fared.is_none_or(fared)
        && request.rule.as_ref().is_none_or(|it| caller.decision.to_string() == *it)
        && since.is_none_or(lately)
        && wanted.from.as_ref().is_none_or(|it| !addresses(caller).intersection(it).is_empty())
        && wanted.traffic.as_ref().is_none_or(|it| {
            traffic::of(caller.wanted).is_some_and(|of| !of.intersection(it).is_empty())
        })
}

/// That nobody came to a decision is told; that there is no such decision, too.
fn knows(name: &str, policy: Option<&Loaded>, list: &[Caller]) -> Result<(), Failure> {
    let planned = policy.into_iter().flat_map(|it| it.plan.decisions());
    let names: Vec<String> = planned
        .map(|it| it.1.id.to_string())
        .chain(list.iter().map(|it| it.decision.to_string()))
        .collect();
    if names.iter().any(|it| it == name) || policy.is_none() {
        return Ok(());
    }
    let near = nearest(name, names.iter().map(String::as_str));
    Err(Failure::usage(
        format!("nothing decides under the name `{}`", name.escape_debug()),
        match near {
            Some(near) => format!("did you mean `{near}`?"),
            None => "`tipstaff show` has the names of all that decides".into(),
        },
    ))
}

/// How long the machine has slept since it was started.
fn slept() -> Duration {
    let [with, without] = [ClockId::Boottime, ClockId::Monotonic].map(|clock| {
        let time = clock_gettime(clock);
        let part = |value: i64| u64::try_from(value).unwrap_or_default();
        Duration::from_secs(part(time.tv_sec))
    });
    with.saturating_sub(without)
}
