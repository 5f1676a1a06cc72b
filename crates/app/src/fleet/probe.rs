//! What hosts really reach, held against what their policy says.

use super::asking::{Answer, MOST, Met, Question, Try, place_of_answer};
use super::between_hosts::{Asked, Hosts, places, traffic};
use super::carrier::{Carrier, Put, Shelf};
use super::compare::Side;
use super::order;
use super::packed;
use super::probes::ends;
use super::trust::Trust;
use crate::vocabulary as say;
use crate::{Failure, Outcome, now};
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;
use std::time::{Duration, Instant};
use tipstaff_core::policy::Verdict;
use tipstaff_core::space::{AddressSet, ByProtocol, PortProtocol, RangeSet, TrafficSet};
use tipstaff_linux::probe::State;

/// How long to wait before looking again.
const LOOK: Duration = Duration::from_millis(500);
/// So many connections are asked for at a time, in all.
const MOST_IN_ALL: usize = 4_096;

/// Which hosts are asked what.
#[derive(Clone, Debug)]
pub struct Wish {
    /// The traffic: ports.
    pub traffic: String,
    /// Who tries: hosts, or labels; none: all.
    pub from: Vec<String>,
    /// Whom they try, likewise.
    pub to: Vec<String>,
    /// Only between addresses in these places; none: all.
    pub within: Vec<String>,
    /// How long to wait for hosts' answers.
    pub patience: Duration,
}

/// What hosts really reach.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Probed {
    /// The traffic, as it was asked for.
    pub traffic: String,
    /// The number of the sealed bundle by which it was judged.
    pub number: u64,
    /// Each connection: those that fare otherwise than it says first.
    pub tries: Vec<Tried>,
}

/// A connection that a host tried.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Tried {
    /// Who tried it.
    pub from: String,
    /// Whom it goes to.
    pub to: String,
    /// The address and port.
    pub at: String,
    /// The protocol: `tcp`, `udp` or `sctp`.
    pub protocol: String,
    /// What the policy says becomes of it; several if that depends on what is not known of it.
    pub said: Vec<say::Verdict>,
    /// What was met: `open`, `refused`, `prohibited`, `silent`, `unreachable`; `null`: it was not tried, or the host said
    /// nothing in time.
    pub met: Option<String>,
    /// How that was seen, or why it is not known.
    pub evidence: String,
    /// Whether that is what the policy says; `unknown` if what was met could be either.
    pub agrees: say::Holds,
}

impl Probed {
    /// Whether all is as the policy says, as an exit code says it.
    pub fn outcome(&self) -> Outcome {
        let agrees = |it: &Tried| it.agrees == say::Holds::Yes;
        if self.tries.iter().all(agrees) { Outcome::Fine } else { Outcome::Found }
    }
}

/// Asks hosts to try connections to each other, and holds what they meet against the policy that was rolled out.
///
/// # Errors
/// [`Failure`] if the carrier cannot be read or written, nothing was rolled out, or too much is asked.
pub fn probe(
    trust: &Trust,
    wish: &Wish,
    far: &mut dyn FnMut(usize, usize),
) -> Result<Probed, Failure> {
    trust.must_have_a_name()?;
    let carrier = trust.carrier.open()?;
    let (number, side) = rolled_out(trust, &*carrier)?;
    let ports = ports(&traffic(&side, &wish.traffic)?)?;
    let tries = tries(&side, wish, &ports)?;
    let fleet = trust.fleet.clone();
    let question = Question { fleet, at: now().to_string(), tries };
    let asked = ask(&*carrier, &question)?;
    let answers = wait(&*carrier, asked, &question, wish.patience, far)?;
    let tries = judged(&side, &question, &answers)?;
    Ok(Probed { traffic: wish.traffic.clone(), number, tries })
}

/// What hosts are told to have.
fn rolled_out(trust: &Trust, carrier: &dyn Carrier) -> Result<(u64, Side), Failure> {
    let nothing = || {
        Failure::usage(
            "nothing is rolled out that the wire could be held against",
            "`tipstaff fleet roll-out` does that",
        )
    };
    let number = order::last(carrier)?.map(|it| it.1.number).ok_or_else(nothing)?;
    let accepted = trust.newest_below(number.saturating_add(1), &trust.signers()?)?;
    let accepted = accepted.filter(|it| it.opened.statement.sequence == number);
    let accepted = accepted.ok_or_else(nothing)?;
    let sources =
        packed::sources(&accepted.opened.policy).map_err(|why| Failure::usage(why, "seal anew"))?;
    Ok((number, Side { name: format!("number {number}"), policy: packed::policy(sources)? }))
}

/// The ports of some traffic, if it is just some ports.
fn ports(traffic: &TrafficSet) -> Result<Vec<(PortProtocol, u16)>, Failure> {
    let bare = TrafficSet { ports: traffic.ports.clone(), ..TrafficSet::empty() };
    let count: u32 = traffic
        .ports
        .iter()
        .flat_map(|it| it.1.ranges())
        .map(|it| u32::from(it.1 - it.0) + 1)
        .sum();
    if !traffic.difference(&bare).is_empty() || count > 16 {
        return Err(Failure::usage(
            "only ports can be tried, at most 16 of them",
            "name some, such as 5432/tcp, or a service",
        ));
    }
    let of = |(protocol, set): (PortProtocol, &RangeSet<u16>)| -> Vec<(PortProtocol, u16)> {
        set.ranges().iter().flat_map(|it| it.0..=it.1).map(|it| (protocol, it)).collect()
    };
    Ok(traffic.ports.iter().flat_map(of).collect())
}

fn tries(side: &Side, wish: &Wish, ports: &[(PortProtocol, u16)]) -> Result<Vec<Try>, Failure> {
    let policy = &side.policy;
    let within: Option<AddressSet> = places(side, &wish.within)?;
    let named = |words: &[String]| -> Result<Vec<&str>, Failure> {
        let fits =
            |host: &str| words.is_empty() || words.iter().any(|it| policy.is_named(host, it));
        for word in words {
            if !policy.hosts.iter().any(|it| policy.is_named(&it.name, word)) {
                let message = format!("no host and no label is called `{}`", word.escape_debug());
                return Err(Failure::usage(message, "`tipstaff fleet status` lists the hosts"));
            }
        }
        Ok(policy.hosts.iter().map(|it| it.name.as_str()).filter(|it| fits(it)).collect())
    };
    let (from, to) = (named(&wish.from)?, named(&wish.to)?);
    let mut tries = Vec::new();
    for sender in from {
        let Some(own) = policy.host(sender) else { continue };
        let before = tries.len();
        for receiver in to.iter().filter(|it| **it != sender) {
            for (source, address) in ends(policy, (own, receiver), within.as_ref()) {
                tries.extend(ports.iter().map(|&(protocol, port)| Try {
                    from: sender.to_owned(),
                    to: (*receiver).to_owned(),
                    source,
                    at: SocketAddr::new(address, port),
                    protocol: protocol.as_str().to_owned(),
                }));
            }
        }
        if tries.len() - before > MOST || tries.len() > MOST_IN_ALL {
            let message = format!(
                "{sender} would have to try {} connections, and all hosts {}",
                tries.len() - before,
                tries.len()
            );
            let help = format!(
                "one tries at most {MOST}, all at most {MOST_IN_ALL}: --from, --to and --within name fewer"
            );
            return Err(Failure::usage(message, help));
        }
    }
    if tries.is_empty() {
        return Err(Failure::usage(
            "there is nobody who could try that",
            "hosts need `addresses` in the policy, and none tries itself",
        ));
    }
    Ok(tries)
}

fn ask(carrier: &dyn Carrier, question: &Question) -> Result<u64, Failure> {
    let bytes = serde_json::to_vec(question).unwrap_or_default();
    for _ in 0..16 {
        let number = carrier.highest(Shelf::Questions)?.unwrap_or_default() + 1;
        if carrier.put(Shelf::Questions, number, &bytes)? == Put::Done {
            return Ok(number);
        }
    }
    Err(Failure::stopped("others ask faster than this one can", vec!["try again".into()]))
}

/// Waits until all have answered, or no longer; tells `far` how many of how many have.
fn wait(
    carrier: &dyn Carrier,
    asked: u64,
    question: &Question,
    patience: Duration,
    far: &mut dyn FnMut(usize, usize),
) -> Result<BTreeMap<String, Answer>, Failure> {
    let hosts: BTreeSet<&String> = question.tries.iter().map(|it| &it.from).collect();
    let mut answers = BTreeMap::new();
    let began = Instant::now();
    loop {
        for &host in hosts.iter().filter(|it| !answers.contains_key(**it)).collect::<Vec<_>>() {
            let word = carrier.word_of(&place_of_answer(host))?.unwrap_or_default();
            let answer = serde_json::from_slice::<Answer>(&word).ok();
            if let Some(answer) = answer.filter(|it| it.question == asked) {
                answers.insert(host.clone(), answer);
            }
        }
        far(answers.len(), hosts.len());
        if answers.len() == hosts.len() || began.elapsed() >= patience {
            return Ok(answers);
        }
        std::thread::sleep(LOOK);
    }
}

fn judged(
    side: &Side,
    question: &Question,
    answers: &BTreeMap<String, Answer>,
) -> Result<Vec<Tried>, Failure> {
    let hosts = Hosts::of(side)?;
    let mut asked: BTreeMap<(String, u16), Asked<'_>> = BTreeMap::new();
    let mut at: BTreeMap<&String, usize> = BTreeMap::new();
    let mut tries = Vec::new();
    for one in &question.tries {
        let key = (one.protocol.clone(), one.at.port());
        if !asked.contains_key(&key) {
            asked.insert(key.clone(), hosts.asked(&single(&one.protocol, one.at.port()), None)?);
        }
        let said = asked.get(&key).map(|it| said(it, one)).unwrap_or_default();
        let place = at.entry(&one.from).or_default();
        let met = answers.get(&one.from).and_then(|it| it.met.get(*place));
        *place += 1;
        tries.push(judge(one, said, met));
    }
    let rank = |it: &Tried| match it.agrees {
        say::Holds::No => 0,
        say::Holds::Unknown => 1,
        say::Holds::Yes => 2,
    };
    tries.sort_by_key(rank);
    Ok(tries)
}

fn single(protocol: &str, port: u16) -> TrafficSet {
    let ports = ByProtocol::new(|it| match it.as_str() == protocol {
        true => RangeSet::single(port),
        false => RangeSet::empty(),
    });
    TrafficSet { ports, ..TrafficSet::empty() }
}

/// What the policy says becomes of it.
fn said(asked: &Asked<'_>, one: &Try) -> Vec<Verdict> {
    let (Some(from), Some(to)) = (asked.word(&one.from), asked.word(&one.to)) else {
        return Vec::new();
    };
    let source = one.source.map_or_else(|| from.own.clone(), AddressSet::single);
    let met = asked.met_by(from, to, (&source, &AddressSet::single(one.at.ip())));
    Verdict::ALL.into_iter().filter(|&it| met.of(it).is_some()).collect()
}

fn judge(one: &Try, said: Vec<Verdict>, met: Option<&Met>) -> Tried {
    let silent = Met { state: None, why: format!("{} did not answer in time", one.from) };
    let met = met.unwrap_or(&silent);
    let state = met.state.as_deref().and_then(State::parse);
    let fits = |verdict: Verdict| match (verdict, state) {
        (_, None | Some(State::Unreachable)) => None,
        (Verdict::Allow, Some(State::Open | State::Refused))
        | (Verdict::Deny, Some(State::Silent))
        | (Verdict::Reject, Some(State::Refused | State::Prohibited)) => Some(true),
        // Whoever gets a datagram need not answer.
        (_, Some(State::Silent)) if one.protocol == "udp" => None,
        _ => Some(false),
    };
    let told: Vec<Option<bool>> = said.iter().map(|&it| fits(it)).collect();
    let agrees = match () {
        () if told.contains(&Some(true)) => say::Holds::Yes,
        () if told.is_empty() || told.contains(&None) => say::Holds::Unknown,
        () => say::Holds::No,
    };
    Tried {
        from: one.from.clone(),
        to: one.to.clone(),
        at: one.at.to_string(),
        protocol: one.protocol.clone(),
        said: said.into_iter().map(say::Verdict::from).collect(),
        met: state.map(|it| it.as_str().to_owned()),
        evidence: met.why.clone(),
        agrees,
    }
}
