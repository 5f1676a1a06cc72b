//! Telling hosts to take what was sealed, some at a time.

use super::carrier::{Carrier, Word};
use super::order::{self, Order};
use super::overview::{HostStands, stands};
use super::packed;
use super::trust::{Accepted, Trust};
use crate::vocabulary as say;
use crate::{Failure, Outcome, now};
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use std::time::{Duration, Instant};

/// How often it is looked how the hosts stand.
const LOOK: Duration = Duration::from_millis(500);

/// How it is rolled out.
#[derive(Clone, Debug)]
pub struct Steps {
    /// How many hosts have it after each step; behind the last it is over.
    pub sizes: Vec<Size>,
    /// How long it is waited between two.
    pub pause: Duration,
    /// At so many hosts that do not take it, it is held.
    pub stop_at: usize,
    /// How long a host may take for it.
    pub patience: Duration,
    /// Only hosts with one of these labels, if there are any.
    pub to: Vec<String>,
}

/// How many hosts.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Size {
    /// So many.
    Hosts(usize),
    /// So many of a hundred, rounded up.
    Percent(f64),
}

impl Size {
    /// Reads `3` or `10%`.
    ///
    /// # Errors
    /// What was expected, if it is neither.
    pub fn parse(text: &str) -> Result<Self, String> {
        let no = || "expected a number of hosts, or a share of them such as 10%".to_owned();
        let size = match text.trim().strip_suffix('%') {
            Some(share) => {
                share.parse().ok().filter(|it| *it > 0.0 && *it <= 100.0).map(Self::Percent)
            }
            None => text.trim().parse().ok().filter(|&it| it > 0).map(Self::Hosts),
        };
        size.ok_or_else(no)
    }

    fn of(self, all: usize) -> usize {
        match self {
            Self::Hosts(number) => number.min(all),
            #[expect(
                clippy::cast_precision_loss,
                clippy::cast_possible_truncation,
                clippy::cast_sign_loss,
                reason = "of fewer hosts than fit 52 bits"
            )]
            Self::Percent(share) => ((all as f64 * share / 100.0).ceil() as usize).min(all),
        }
    }
}

/// How far it has come.
#[derive(Debug)]
pub struct Far {
    /// How many hosts have it.
    pub have: usize,
    /// How many are told to take it.
    pub told: usize,
    /// How many are meant.
    pub all: usize,
}

/// What came of it.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct RolledOut {
    /// The number of the sealed bundle.
    pub number: u64,
    /// Whether all that were told to take it have it.
    pub done: bool,
    /// Why it was stopped; `null` if it was not.
    pub stopped: Option<String>,
    /// The hosts that have it.
    pub have: Vec<String>,
    /// Those that were told to and do not, and why.
    pub have_not: Vec<HostStands>,
    /// Those that wait for their turn.
    pub wait: Vec<String>,
}

impl RolledOut {
    /// Whether all that were told to take it have it, as an exit code says it.
    pub fn outcome(&self) -> Outcome {
        if self.done { Outcome::Fine } else { Outcome::Found }
    }
}

/// Rolls out the newest sealed bundle that counts. What is known of it is at the carrier: whoever goes on with one whose
/// command was ended asks for the same again.
///
/// # Errors
/// [`Failure`] if there is none, or the carrier cannot be read or written; hosts that were told to take it do so.
pub fn roll_out(
    trust: &Trust,
    steps: &Steps,
    far: &mut dyn FnMut(&Far),
) -> Result<RolledOut, Failure> {
    trust.must_have_a_name()?;
    let newest = trust.newest(&trust.signers()?)?.accepted;
    let newest = newest.ok_or_else(|| {
        Failure::usage(
            "nothing is sealed that could be rolled out",
            "`tipstaff fleet seal` does that",
        )
    })?;
    let number = newest.opened.statement.sequence;
    let meant = meant(&newest, trust, &steps.to)?;
    let all = &meant.hosts;
    let carrier = trust.carrier.open()?;
    let mut began: BTreeMap<String, Instant> = BTreeMap::new();
    let mut stage = 0;
    loop {
        let size = steps.sizes.get(stage).map_or(all.len(), |it| it.of(all.len()));
        let (attempt, told) = patiently(steps.patience, || tell(&*carrier, number, &meant, size))?;
        let began_now = Instant::now();
        told.iter().for_each(|it| _ = began.entry(it.clone()).or_insert(began_now));
        loop {
            let looked = Instant::now();
            let words = patiently(steps.patience, || carrier.told())?;
            let words: BTreeMap<String, Word> =
                words.into_iter().map(|it| (it.host.clone(), it)).collect();
            let took = looked.elapsed();
            let stand = |it: &String| stands(trust, it.clone(), Some(number), words.get(it));
            let standing: Vec<HostStands> = told.iter().map(stand).collect();
            let have = standing.iter().filter(|it| it.has() == Some(number)).count();
            far(&Far { have, told: told.len(), all: all.len() });
            let fails = |it: &&HostStands| {
                let late = began.get(&it.host).is_some_and(|it| it.elapsed() >= steps.patience);
                fails(it, number, attempt, late)
            };
            let failed: Vec<&HostStands> = standing.iter().filter(fails).collect();
            if failed.len() >= steps.stop_at.max(1) {
                let why = stop_word(&failed);
                hold_at(&*carrier, number, &why)?;
                return Ok(result(number, all, standing, Some(why)));
            }
            if let Some((_, order)) = patiently(steps.patience, || order::last(&*carrier))?
                .filter(|it| it.1.number != number || it.1.held)
            {
                let why = match order.number == number {
                    true => format!("somebody holds it: {}", order.why),
                    false => format!("somebody rolls out number {}", order.number),
                };
                return Ok(result(number, all, standing, Some(why)));
            }
            if have + failed.len() == told.len() {
                if told.len() >= all.len() || stage + 1 >= steps.sizes.len() {
                    return Ok(result(number, all, standing, None));
                }
                break;
            }
            // Of many hosts, looking is what costs a store most.
            std::thread::sleep(LOOK.max(took * 4));
        }
        stage += 1;
        std::thread::sleep(steps.pause);
    }
}

/// Does something that needs the carrier, again and again for a while: one that is not reached just now is no reason to
/// leave hosts alone that take something.
fn patiently<T>(
    patience: Duration,
    mut what: impl FnMut() -> Result<T, Failure>,
) -> Result<T, Failure> {
    let began = Instant::now();
    loop {
        match what() {
            Err(Failure::System { .. }) if began.elapsed() < patience => std::thread::sleep(LOOK),
            done => return done,
        }
    }
}

/// The hosts that are meant, in the order of the policy; those that said something and only patterns name, behind them.
fn meant(newest: &Accepted, trust: &Trust, to: &[String]) -> Result<Meant, Failure> {
    let sources =
        packed::sources(&newest.opened.policy).map_err(|why| Failure::usage(why, "seal anew"))?;
    let policy = packed::policy(sources)?;
    let mut all = newest.machines();
    let known: BTreeSet<String> = all.iter().cloned().collect();
    let words = trust.carrier.open()?.told()?;
    all.extend(words.into_iter().map(|it| it.host).filter(|it| !known.contains(it)));
    let fits = |host: &String| match policy.host_for(host)[..] {
        [section] => to.is_empty() || section.labels.iter().any(|it| to.contains(it)),
        _ => false,
    };
    all.retain(fits);
    if all.is_empty() {
        let labels: BTreeSet<&String> = policy.hosts.iter().flat_map(|it| &it.labels).collect();
        let labels: Vec<&str> = labels.into_iter().map(String::as_str).collect();
        return Err(Failure::usage(
            format!(
                "no host of number {} has the label {}",
                newest.opened.statement.sequence,
                to.join(", ")
            ),
            format!("its labels are {}", labels.join(", ")),
        ));
    }
    Ok(Meant { hosts: all, is_all: to.is_empty() })
}

/// The hosts that are meant.
struct Meant {
    hosts: Vec<String>,
    /// Whether that is the whole fleet.
    is_all: bool,
}

/// Tells the first of the hosts to take it, besides those that are told already; gives the attempt, and all
/// that are.
fn tell(
    carrier: &dyn Carrier,
    number: u64,
    meant: &Meant,
    size: usize,
) -> Result<(u64, Vec<String>), Failure> {
    let names = &meant.hosts;
    let next = |before: Option<&Order>| {
        let before = before.filter(|it| it.number == number);
        let was_all = before.is_some_and(|it| it.all);
        // Whoever goes on with what was held has looked at what kept it from being taken.
        let attempt = before.map_or(1, |it| it.attempt + u64::from(it.held));
        let mut hosts = before.map(|it| it.hosts.clone()).unwrap_or_default();
        let told: BTreeSet<&String> = hosts.iter().collect();
        let missing = size.saturating_sub(names.iter().filter(|it| told.contains(it)).count());
        let new: Vec<String> =
            names.iter().filter(|it| !told.contains(it)).take(missing).cloned().collect();
        let all = was_all || meant.is_all && size >= names.len();
        let same = before.is_some_and(|it| !it.held) && (was_all || new.is_empty() && !all);
        hosts.extend(new);
        let among = if all { names.len() } else { hosts.len() };
        let hosts = if all { Vec::new() } else { hosts };
        let (at, why) = (now().to_string(), String::new());
        (!same).then_some(Order { number, hosts, all, among, held: false, attempt, why, at })
    };
    order::write(carrier, next)?;
    let order = order::last(carrier)?.map(|it| it.1).filter(|it| it.number == number);
    let Some(order) = order else { return Ok((0, Vec::new())) };
    let told: BTreeSet<&String> = order.hosts.iter().collect();
    let told = names.iter().filter(|it| order.all || told.contains(it)).cloned().collect();
    Ok((order.attempt, told))
}

/// Whether a host does not take it. What it did not take in an attempt before, it may not have tried again yet.
fn fails(host: &HostStands, number: u64, attempt: u64, late: bool) -> bool {
    if host.has() == Some(number) {
        return host.stands == say::Stands::Drifted;
    }
    let refused = host.said.as_ref().and_then(|it| it.refused.as_ref());
    late || refused.is_some_and(|it| it.number == number && it.attempt == attempt)
}

fn stop_word(failed: &[&HostStands]) -> String {
    let of = |it: &&HostStands| {
        let why = it.why.clone().unwrap_or_else(|| "it did not take it in time".into());
        format!("{} ({}): {why}", it.host, it.stands)
    };
    failed.iter().map(of).collect::<Vec<_>>().join("; ")
}

fn result(
    number: u64,
    all: &[String],
    standing: Vec<HostStands>,
    stopped: Option<String>,
) -> RolledOut {
    let (have, have_not): (Vec<_>, Vec<_>) =
        standing.into_iter().partition(|it| it.has() == Some(number));
    let told: BTreeSet<&String> = have.iter().chain(&have_not).map(|it| &it.host).collect();
    let wait = all.iter().filter(|it| !told.contains(it)).cloned().collect();
    let done = stopped.is_none() && have_not.is_empty();
    let have = have.into_iter().map(|it| it.host).collect();
    RolledOut { number, done, stopped, have, have_not, wait }
}

fn hold_at(carrier: &dyn Carrier, number: u64, why: &str) -> Result<Option<u64>, Failure> {
    let next = |before: Option<&Order>| {
        let before = before.filter(|it| it.number == number && !it.held)?;
        Some(Order { held: true, why: why.to_owned(), at: now().to_string(), ..before.clone() })
    };
    Ok(order::write(carrier, next)?.map(|it| it.1.number))
}

/// No more hosts take what is rolled out, until it is rolled out again.
///
/// # Errors
/// [`Failure`] if nothing is rolled out, or the carrier cannot be read or written.
pub fn hold(trust: &Trust, why: &str) -> Result<Held, Failure> {
    trust.must_have_a_name()?;
    let carrier = trust.carrier.open()?;
    let last = order::last(&*carrier)?.map(|it| it.1);
    let last = last.ok_or_else(|| {
        Failure::usage(
            "nothing is rolled out that could be held",
            "`tipstaff fleet roll-out` does that",
        )
    })?;
    let was_held = last.held;
    hold_at(&*carrier, last.number, why)?;
    Ok(Held { number: last.number, was_held, hosts: last.hosts, all: last.all })
}

/// What is held.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Held {
    /// The number of the sealed bundle.
    pub number: u64,
    /// Whether it was held before.
    pub was_held: bool,
    /// The hosts that were told to take it until then.
    pub hosts: Vec<String>,
    /// Whether all were; then none is listed.
    pub all: bool,
}
