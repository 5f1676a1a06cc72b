//! Chains that lead to each other, as one list: the first entry that matches decides.

use super::held::{Entrance, Held, Place, Row, Then};
use super::narrowed::Narrowed;
use crate::plan::InterfaceTest;
use crate::policy::{Rate, Verdict};
use crate::program::Test;
use crate::space::{Direction, Family};

/// More entries than this, and nobody would read the policy.
const MOST: usize = 50_000;
/// Chains that lead to each other again and again may come to few entries, and take for ever.
const MOST_STEPS: usize = 2_000_000;
/// The kernel lets chains jump no deeper (`NFT_JUMP_STACK_SIZE`).
const DEPTH: usize = 40;

/// Its chains lead to more entries than a policy ought to have.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct TooMany {
    /// As many as were looked at.
    pub entries: usize,
}

/// What an entry does.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum End {
    Decides(Verdict),
    /// It is not known, why, and whether it may keep something out.
    Unknown(String, bool),
}

/// An entry of the list.
#[derive(Clone, Debug)]
pub(super) struct Flat<'h> {
    pub place: Place,
    /// The rule that it comes from; `None`: what a chain does with what it leaves undecided.
    pub row: Option<&'h Row>,
    pub asked: Narrowed,
    pub end: End,
    /// Up to which rate it lets pass; what comes beyond goes on.
    pub rate: Option<Rate>,
}

/// What follows where a chain is left.
#[derive(Clone, Copy)]
enum Rest<'r> {
    /// The next chain that packets enter.
    Entrance(usize),
    /// The end of one.
    End(usize),
    /// The rules of a chain from one on, and what follows them.
    Rules { chain: &'r str, from: usize, behind: &'r Rest<'r> },
}

/// The list of a direction.
///
/// # Errors
/// [`TooMany`].
pub(super) fn flatten(held: &Held, direction: Direction) -> Result<Vec<Flat<'_>>, TooMany> {
    let mut entrances: Vec<&Entrance> =
        held.entrances.iter().filter(|it| it.direction == direction).collect();
    // A chain that keeps nothing out makes no difference.
    let keeps_out = |it: &Then| matches!(it, Then::Deny | Then::Reject | Then::Unknown(_));
    entrances.retain(|it| !it.passes || held.does(&it.chain, keeps_out));
    let mut walk = Walk { held, direction, entrances, list: Vec::new(), steps: 0 };
    walk.rest(&Narrowed::all(), Rest::Entrance(0), 0)?;
    Ok(walk.list)
}

struct Walk<'h> {
    held: &'h Held,
    direction: Direction,
    entrances: Vec<&'h Entrance>,
    list: Vec<Flat<'h>>,
    /// How many rules were looked at, each as often as it is led to.
    steps: usize,
}

impl<'h> Walk<'h> {
    /// All that becomes of some packets from somewhere on: to the end.
    fn rest(&mut self, asked: &Narrowed, rest: Rest<'_>, depth: usize) -> Result<(), TooMany> {
        match rest {
            Rest::Entrance(at) => {
                let Some(entrance) = self.entrances.get(at).copied() else {
                    let place = Place { chain: String::new(), number: None };
                    return self.add(place, None, asked, End::Decides(Verdict::Allow));
                };
                if let Some(family) = entrance.family {
                    let other = if family == Family::V4 { Family::V6 } else { Family::V4 };
                    if let Some(others) = asked.and_all(&[Test::Family(other)]) {
                        self.rest(&others, Rest::Entrance(at + 1), depth)?;
                    }
                    let Some(own) = asked.and_all(&[Test::Family(family)]) else { return Ok(()) };
                    self.rules(&own, &entrance.chain, 0, Rest::End(at), depth)?;
                    return self.rest(&own, Rest::End(at), depth);
                }
                self.rules(asked, &entrance.chain, 0, Rest::End(at), depth)?;
                self.rest(asked, Rest::End(at), depth)
            }
            Rest::End(at) => {
                let Some(entrance) = self.entrances.get(at).copied() else { return Ok(()) };
                if entrance.passes && at + 1 < self.entrances.len() {
                    return self.rest(asked, Rest::Entrance(at + 1), depth);
                }
                let verdict = if entrance.passes { Verdict::Allow } else { Verdict::Deny };
                let place = Place { chain: entrance.chain.clone(), number: None };
                self.add(place, None, asked, End::Decides(verdict))
            }
            Rest::Rules { chain, from, behind } => {
                self.rules(asked, chain, from, *behind, depth)?;
                self.rest(asked, *behind, depth)
            }
        }
    }

    /// What the rules of a chain from one on do with some packets; what they leave undecided is left so.
    fn rules(
        &mut self,
        asked: &Narrowed,
        chain: &str,
        from: usize,
        behind: Rest<'_>,
        depth: usize,
    ) -> Result<(), TooMany> {
        let rows = self.held.chains.get(chain).map_or(&[][..], Vec::as_slice);
        self.steps += rows.len();
        if self.steps > MOST_STEPS {
            return Err(TooMany { entries: MOST });
        }
        for (at, row) in rows.iter().enumerate().skip(from) {
            let place = Place { chain: chain.to_owned(), number: Some(at + 1) };
            for way in &row.ways {
                let tests: Vec<Test> = way.tests.iter().map(|it| self.understood(it)).collect();
                let Some(asked) = asked.and_all(&tests) else { continue };
                let here = Rest::Rules { chain, from: at + 1, behind: &behind };
                self.way(&asked, (&place, row), &way.then, (here, behind), depth)?;
            }
        }
        Ok(())
    }

    fn way(
        &mut self,
        asked: &Narrowed,
        (place, row): (&Place, &'h Row),
        then: &Then,
        (here, behind): (Rest<'_>, Rest<'_>),
        depth: usize,
    ) -> Result<(), TooMany> {
        if depth > DEPTH {
            let why = "its chains lead to each other too deep".to_owned();
            return self.add(place.clone(), Some(row), asked, End::Unknown(why, true));
        }
        // Of what comes within a rate or beyond it, only one that lets pass at once says something that a policy can.
        let last = Then::Accept == *then && self.is_last(behind);
        // Whether packets go that way is not known; then it is this rule that is not taken, not those that it leads to.
        let leads = match then {
            Then::Jump(_) | Then::Goto(_) | Then::Return => true,
            Then::Accept => !last,
            _ => false,
        };
        if leads && let Some(why) = asked.opaque.first() {
            return self.add(place.clone(), Some(row), asked, End::Unknown(why.clone(), true));
        }
        if row.rate.is_some() && !last && *then != Then::On {
            let why = "a rate decides whether it keeps something out".to_owned();
            return self.add(place.clone(), Some(row), asked, End::Unknown(why, true));
        }
        match then {
            Then::On => Ok(()),
            Then::Deny => self.add(place.clone(), Some(row), asked, End::Decides(Verdict::Deny)),
            Then::Reject => {
                self.add(place.clone(), Some(row), asked, End::Decides(Verdict::Reject))
            }
            Then::Unknown(why) => {
                self.add(place.clone(), Some(row), asked, End::Unknown(why.clone(), true))
            }
            Then::Accept if last => {
                self.add(place.clone(), Some(row), asked, End::Decides(Verdict::Allow))
            }
            Then::Accept => self.rest(asked, Rest::Entrance(entered(behind) + 1), depth + 1),
            Then::Return => self.rest(asked, behind, depth + 1),
            Then::Jump(to) => self.rules(asked, to, 0, here, depth + 1),
            Then::Goto(to) => {
                self.rules(asked, to, 0, behind, depth + 1)?;
                self.rest(asked, behind, depth + 1)
            }
        }
    }

    /// Whether no other chain comes behind the one that was entered.
    fn is_last(&self, rest: Rest<'_>) -> bool {
        entered(rest) + 1 >= self.entrances.len()
    }

    fn add(
        &mut self,
        place: Place,
        row: Option<&'h Row>,
        asked: &Narrowed,
        end: End,
    ) -> Result<(), TooMany> {
        if self.list.len() >= MOST {
            return Err(TooMany { entries: MOST });
        }
        let end = match asked.opaque.first() {
            Some(why) => End::Unknown(why.clone(), end != End::Decides(Verdict::Allow)),
            None => end,
        };
        let rate = row.and_then(|it| it.rate);
        self.list.push(Flat { place, row, asked: asked.clone(), end, rate });
        Ok(())
    }

    /// Kernels do not agree on what is asked of an interface that there is none of.
    fn understood(&self, test: &Test) -> Test {
        let none = |test: &InterfaceTest| *test != InterfaceTest::Any;
        let why = match (test, self.direction) {
            (Test::OutInterface(it), Direction::Inbound) if none(it) => {
                "it asks by which interface packets leave that do not leave"
            }
            (Test::InInterface(it), Direction::Outbound) if none(it) => {
                "it asks by which interface packets came that did not come"
            }
            _ => return test.clone(),
        };
        Test::Opaque(why.into())
    }
}

/// The number of the chain that was entered.
fn entered(rest: Rest<'_>) -> usize {
    match rest {
        Rest::Entrance(at) | Rest::End(at) => at,
        Rest::Rules { behind, .. } => entered(*behind),
    }
}
