//! Questions to hosts: whether they reach others of the fleet. What a host is asked to do for anybody who can write at
//! the carrier is bounded: so many connections, and only to addresses that its own policy has as those of the fleet's hosts.

use super::asking::{Answer, MOST, Met, Question, Try, place_of_answer};
use super::carrier::{Carrier, Shelf};
use super::member::Body;
use super::probes::{self, Target};
use crate::{Failure, Loaded, now};
use std::collections::BTreeSet;
use std::net::IpAddr;
use std::time::{Duration, Instant};
use tipstaff_core::space::PortProtocol;

/// The last question that a host has looked at.
#[derive(Debug, Default)]
pub(super) struct Heard {
    last: Option<u64>,
    answered: Option<Instant>,
}

/// One question is answered in this time, and of several the last.
const BETWEEN: Duration = Duration::from_secs(5);

impl Heard {
    /// Whether another one may be answered yet.
    pub(super) fn may_answer(&self) -> bool {
        self.answered.is_none_or(|it| it.elapsed() >= BETWEEN)
    }

    /// The number of the last question that was looked at.
    pub(super) fn last(&self) -> u64 {
        self.last.unwrap_or_default()
    }

    /// Answers the question of that number, the highest at the carrier, if it is a new one.
    ///
    /// # Errors
    /// [`Failure`] if it cannot be read, or no answer be left.
    pub(super) fn see_to(
        &mut self,
        carrier: &dyn Carrier,
        body: &mut dyn Body,
        fleet: &str,
        number: u64,
    ) -> Result<(), Failure> {
        if !self.may_answer() {
            return Ok(());
        }
        let Some(last) = self.last.replace(number) else {
            // What was asked before this host attended, nobody waits for any more.
            return Ok(());
        };
        if number <= last {
            return Ok(());
        }
        self.answered = Some(Instant::now());
        match carrier.read(Shelf::Questions, number)? {
            Some(bytes) => answered(carrier, body, fleet, (number, &bytes)),
            None => Ok(()),
        }
    }

    /// Answers a question that was told without being asked for, if it is a new one.
    ///
    /// # Errors
    /// [`Failure`] if no answer can be left.
    pub(super) fn hear(
        &mut self,
        carrier: &dyn Carrier,
        body: &mut dyn Body,
        fleet: &str,
        (number, bytes): (u64, &[u8]),
    ) -> Result<(), Failure> {
        if self.last.is_some_and(|last| number <= last) {
            return Ok(());
        }
        (self.last, self.answered) = (Some(number), Some(Instant::now()));
        answered(carrier, body, fleet, (number, bytes))
    }
}

fn answered(
    carrier: &dyn Carrier,
    body: &mut dyn Body,
    fleet: &str,
    (number, bytes): (u64, &[u8]),
) -> Result<(), Failure> {
    let Ok(question) = serde_json::from_slice::<Question>(bytes) else { return Ok(()) };
    let host = body.name()?;
    let mine: Vec<Try> = question.tries.into_iter().filter(|it| it.from == host).collect();
    if question.fleet != fleet || mine.is_empty() {
        return Ok(());
    }
    let met = match body.answers(&mine) {
        Ok(met) => met,
        Err(why) => mine.iter().map(|_| not_tried(&why.line())).collect(),
    };
    let answer = Answer { question: number, at: now().to_string(), met };
    let bytes = serde_json::to_vec(&answer).unwrap_or_default();
    carrier.tell(&place_of_answer(&host), &bytes)
}

fn not_tried(why: &str) -> Met {
    Met { state: None, why: why.to_owned() }
}

/// Tries what may be tried.
pub(super) fn answers(policy: &Loaded, asked: &[Try]) -> Vec<Met> {
    let fleet: BTreeSet<IpAddr> =
        policy.policy.hosts.iter().flat_map(|it| &it.addresses).copied().collect();
    let own: &[IpAddr] = policy.section().map_or(&[], |it| &it.addresses);
    let target = |one: &Try| -> Result<Target, &'static str> {
        let protocol = PortProtocol::ALL.into_iter().find(|it| it.as_str() == one.protocol);
        let protocol = protocol.ok_or("no protocol with ports is called so")?;
        if !fleet.contains(&one.at.ip()) {
            return Err("no host of the fleet has that address, by this host's policy");
        }
        if one.source.is_some_and(|it| !own.contains(&it)) {
            return Err("that is none of this host's addresses, by its policy");
        }
        Ok(Target { to: one.to.clone(), source: one.source, at: one.at, protocol })
    };
    let mut targets: Vec<Result<Target, &'static str>> = asked.iter().map(target).collect();
    targets.iter_mut().skip(MOST).for_each(|it| *it = Err("one host tries no more at a time"));
    let good: Vec<Target> = targets.iter().flatten().cloned().collect();
    let mut met = probes::tried(&good).into_iter();
    let one = |target: Result<Target, &'static str>| match target.map(|_| met.next()) {
        Ok(Some(Ok(it))) => Met { state: Some(it.state.as_str().to_owned()), why: it.evidence },
        Ok(Some(Err(why))) => not_tried(&why),
        Ok(None) => not_tried("it broke off"),
        Err(why) => not_tried(why),
    };
    targets.into_iter().map(one).collect()
}
