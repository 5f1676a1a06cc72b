//! What is known of a rule of others while it is read.

use super::asked::{Asked, among};
use super::compat::{self, Does, Part};
use super::field::{Field, Known, Loaded, Registers};
use tipstaff_core::adopt::{Then, Way};
use tipstaff_core::policy::Rate;
use tipstaff_core::program::Test;
use tipstaff_core::space::{Family, ICMP, RangeSet};
use tipstaff_wire::nf_tables::Limit;
use tipstaff_wire::{Attribute, Attributes};

/// More than these, and what a rule asks is not told apart.
const MOST: usize = 4_096;

/// What is known of a rule so far.
pub(super) struct State {
    pub comment: Option<String>,
    /// The lists of tests of which one must hold; no packet fits two.
    pub lists: Vec<Vec<Test>>,
    pub registers: Registers,
    pub rate: Option<Rate>,
    pub log: bool,
    pub packets: Option<u64>,
    /// Tests of ICMP's types that packets of the other IP version pass too.
    pub odd: Option<u8>,
    /// What it does in the end, by the lists.
    pub ends: Option<Vec<Way>>,
}

impl State {
    /// Whoever asks something behind a rate has others use it up.
    pub(super) fn spoils_rate(&mut self) {
        if self.rate.take().is_some() {
            self.unknown("a rate that packets use up which it is not about");
        }
    }

    pub(super) fn ask(&mut self, loaded: &Loaded, asked: Asked) {
        self.spoils_rate();
        if let Field::IcmpType(number) = loaded.field
            && Known::by_each(&self.lists).family.is_none()
        {
            self.odd = Some(number);
        }
        match asked {
            Asked::All(tests) => self.lists.iter_mut().for_each(|it| it.extend(tests.clone())),
            Asked::Any(tests) if self.lists.len() * tests.len() <= MOST => {
                self.lists = product(&self.lists, &tests);
            }
            Asked::Any(_) => self.unknown("more combinations than are told apart"),
            Asked::Unknown(what) => self.unknown(&what),
        }
    }

    pub(super) fn unknown(&mut self, what: &str) {
        let test = Test::Opaque(format!("it looks at {what}"));
        self.lists.iter_mut().for_each(|it| it.push(test.clone()));
    }

    pub(super) fn end(&mut self, then: &Then) {
        let ways = self.lists.drain(..).map(|tests| Way { tests, then: then.clone() });
        self.ends = Some(ways.collect());
    }

    /// Several lists of tests, each with where it leads in a map.
    pub(super) fn lists(&mut self, lists: &[(Vec<Test>, Option<Then>)], map: bool) {
        self.spoils_rate();
        if self.lists.len() * lists.len() > MOST {
            return self.unknown("more combinations than are told apart");
        }
        let mut found = Vec::new();
        for before in &self.lists {
            for (tests, then) in lists {
                let tests: Vec<Test> = before.iter().chain(tests).cloned().collect();
                found.push((tests, then.clone()));
            }
        }
        if map {
            let ways =
                found.into_iter().filter_map(|(tests, then)| Some(Way { tests, then: then? }));
            self.ends = Some(ways.collect());
        } else {
            self.lists = found.into_iter().map(|it| it.0).collect();
        }
    }

    /// Where a map leads.
    pub(super) fn choose(&mut self, loaded: &Loaded, asked: Vec<(Asked, Then)>) {
        let mut ways = Vec::new();
        let lists = std::mem::take(&mut self.lists);
        let rate = self.rate;
        for (asked, then) in asked {
            self.lists.clone_from(&lists);
            self.rate = rate;
            self.ask(loaded, asked);
            ways.extend(self.lists.drain(..).map(|tests| Way { tests, then: then.clone() }));
        }
        self.rate = None;
        self.ends = Some(ways);
    }

    pub(super) fn limit(&mut self, limit: &Limit) {
        let rate = || {
            let count =
                u32::try_from(limit.rate).ok().filter(|it| (1..=Rate::MOST).contains(it))?;
            let seconds = u32::try_from(limit.unit).ok()?;
            let plain = limit.kind == 0
                && limit.flags == 0
                && [1, 60, 3_600, 86_400].contains(&seconds)
                && (1..=Rate::MOST).contains(&limit.burst);
            plain.then_some(Rate { count, seconds, burst: limit.burst, per_source: false })
        };
        match (rate(), self.rate) {
            (Some(rate), None) => self.rate = Some(rate),
            _ => self.unknown("a rate that a policy cannot name"),
        }
    }

    pub(super) fn other(&mut self, name: &str, data: &[u8]) {
        // NFTA_CT_SREG, NFTA_META_SREG, NFTA_OBJREF_IMM_TYPE.
        let has = |kind: u16| attribute(data, kind).is_some();
        match name {
            "log" => self.log = true,
            "last" | "notrack" | "masq" | "dup" | "flow_offload" => {}
            // NFT_OBJECT_COUNTER, NFT_OBJECT_CT_HELPER.
            "objref" if matches!(number(data, 1), Some(1 | 3)) => {}
            "ct" if has(4) => {}
            "meta" if has(3) => {}
            "queue" | "synproxy" | "fwd" => {
                self.end(&Then::Unknown("it hands packets to a program".into()));
            }
            "target" => match compat::target(data) {
                Some(Does::Nothing) => {}
                Some(Does::Reports) => self.log = true,
                Some(Does::Rejects) => self.end(&Then::Reject),
                None => {
                    self.end(&Then::Unknown("it does what is not understood (`target`)".into()));
                }
            },
            "match" => match compat::part(data, &Known::by_each(&self.lists)) {
                Some(Part::Remark(text)) => {
                    self.comment = self.comment.take().or(Some(text).filter(|it| !it.is_empty()));
                }
                Some(Part::Asks(list)) => {
                    for (field, ranges, inverted) in list {
                        let loaded = Loaded::whole(field);
                        self.ask(&loaded, among(&loaded, &ranges, inverted));
                    }
                }
                None => self.unknown("what is not understood (`match`)"),
            },
            _ => {
                self.registers.forget();
                self.unknown(&format!("`{}`, which is not understood", name.escape_debug()));
            }
        }
    }
}

fn attribute(data: &[u8], kind: u16) -> Option<Attribute<'_>> {
    Attributes::new(data, "an expression").filter_map(Result::ok).find(|it| it.kind == kind)
}

fn number(data: &[u8], kind: u16) -> Option<u32> {
    attribute(data, kind)?.be32("a number").ok()
}

/// A type of ICMP asked for without the IP version: packets of the other one that carry such a protocol, of which a
/// policy knows no types, are asked too.
pub(super) fn of_both(ways: Vec<Way>, number: u8) -> Vec<Way> {
    let (its, other) =
        if number == ICMP { (Family::V4, Family::V6) } else { (Family::V6, Family::V4) };
    let mut all = Vec::new();
    for Way { tests, then } in ways {
        let its = tests.iter().cloned().chain([Test::Family(its)]).collect();
        all.push(Way { tests: its, then: then.clone() });
        let what = "types of the other IP version's ICMP";
        let rest = tests.into_iter().filter(|it| !matches!(it, Test::IcmpType(_)));
        let odd = [
            Test::Family(other),
            Test::Protocol(RangeSet::single(number)),
            Test::Opaque(format!("it looks at {what}")),
        ];
        all.push(Way { tests: rest.chain(odd).collect(), then });
    }
    all
}

pub(super) fn product(lists: &[Vec<Test>], tests: &[Test]) -> Vec<Vec<Test>> {
    let with =
        |list: &Vec<Test>, test: &Test| list.iter().chain([test]).cloned().collect::<Vec<Test>>();
    lists.iter().flat_map(|list| tests.iter().map(move |test| with(list, test))).collect()
}
