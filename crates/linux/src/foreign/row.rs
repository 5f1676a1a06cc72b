//! A rule of others, expression by expression.

use super::asked::{Asked, Ranges, among, compared};
use super::field::{Field, Known, Loaded, Registers};
use super::sets::{Values, values};
use crate::translation::held::{Others, TableName};
use tipstaff_core::adopt::{Row, Then, Way};
use tipstaff_core::policy::Rate;
use tipstaff_core::program::Test;
use tipstaff_core::space::{Family, ICMP, RangeSet};
use tipstaff_wire::nf_tables::{
    Compare, Expression, FAMILY_IPV4, FAMILY_IPV6, Limit, Rule, Verdict,
};
use tipstaff_wire::{Attribute, Attributes};

/// More than these, and what a rule asks is not told apart.
const MOST: usize = 4_096;

/// Reads rules of a table.
pub(super) struct Reader<'o> {
    pub others: &'o Others,
    pub table: &'o TableName,
    /// The name under which a chain of the table is kept.
    pub name: &'o dyn Fn(&str) -> String,
}

/// What is known of a rule so far.
struct State {
    /// The lists of tests of which one must hold; no packet fits two.
    lists: Vec<Vec<Test>>,
    registers: Registers,
    rate: Option<Rate>,
    log: bool,
    packets: Option<u64>,
    /// Tests of ICMP's types that packets of the other IP version pass too.
    odd: Option<u8>,
    /// What it does in the end, by the lists.
    ends: Option<Vec<Way>>,
}

impl Reader<'_> {
    /// The rule as a row.
    pub(super) fn row(&self, rule: &Rule) -> Row {
        let family = match self.table.0 {
            FAMILY_IPV4 => Some(Family::V4),
            FAMILY_IPV6 => Some(Family::V6),
            _ => None,
        };
        let mut state = State {
            lists: vec![family.map(Test::Family).into_iter().collect()],
            registers: Registers::default(),
            rate: None,
            log: false,
            packets: None,
            odd: None,
            ends: None,
        };
        for expression in &rule.expressions {
            self.step(&mut state, expression);
            if state.ends.is_some() {
                break;
            }
        }
        let mut ways = state.ends.unwrap_or_default();
        if let Some(number) = state.odd {
            ways = of_both(ways, number);
        }
        Row {
            comment: comment(&rule.user_data),
            packets: state.packets,
            log: state.log,
            rate: state.rate,
            ways,
        }
    }

    fn step(&self, state: &mut State, expression: &Expression) {
        let known = Known::by_each(&state.lists);
        if state.registers.load(expression, &known) {
            return;
        }
        match expression {
            Expression::Cmp { register, op, data } => {
                let loaded = state.registers.at(*register, 0);
                state.ask(&loaded, compared(&loaded, *op, data));
            }
            Expression::Range { register, op, from, to } => {
                let loaded = state.registers.at(*register, 0);
                let ranges = vec![(from.clone(), to.clone())];
                state.ask(&loaded, among(&loaded, &ranges, *op != Compare::Equal));
            }
            Expression::Lookup { set, register, to_verdict, flags, .. } => {
                self.lookup(state, set, *register, *to_verdict, *flags & 1 != 0);
            }
            Expression::Immediate(verdict) => state.end(self.then(verdict)),
            Expression::Reject { .. } => state.end(Then::Reject),
            Expression::Counter { packets, .. } => state.packets = Some(*packets),
            Expression::Log { .. } => state.log = true,
            Expression::Limit(limit) => state.limit(limit),
            Expression::MetaSet { .. } | Expression::Nat { .. } | Expression::Redirect { .. } => {}
            Expression::Dynset { .. } => state.unknown("a rate that each sender has".into()),
            Expression::DynsetCounts { .. } | Expression::DynsetAdds { .. } => {
                state.unknown("whether a set has room".into());
            }
            Expression::Tproxy { .. } => {
                state.end(Then::Unknown("it hands packets to a program".into()));
            }
            Expression::Other { name, data } => state.other(name, data),
            other => {
                state.registers.forget();
                state.unknown(format!("`{}`, which is not understood", other.name()));
            }
        }
    }

    fn then(&self, verdict: &Verdict) -> Then {
        match verdict {
            Verdict::Accept => Then::Accept,
            Verdict::Drop => Then::Deny,
            Verdict::Return => Then::Return,
            Verdict::Jump(to) => Then::Jump((self.name)(to)),
            Verdict::Goto(to) => Then::Goto((self.name)(to)),
            // NFT_CONTINUE.
            Verdict::Other(-1, _) => Then::On,
            Verdict::Other(..) => Then::Unknown("it hands packets to a program".into()),
        }
    }

    fn lookup(&self, state: &mut State, set: &str, register: u32, map: bool, inverted: bool) {
        let loaded = state.registers.at(register, 0);
        let Some(held) = self.others.set(self.table, set) else {
            return state.unknown("a set that cannot be read".into());
        };
        let Some(values) = values(held, |words| state.registers.at(register, words).field) else {
            return state.unknown("a set that changes by itself".into());
        };
        let Values { entries, rest } = values;
        // Several fields, one behind the other.
        if entries.iter().any(|it| it.0.len() > 1) {
            if inverted || (rest.is_some() && map) {
                return state.unknown("several things that must not go together".into());
            }
            let mut lists = Vec::new();
            for (parts, verdict) in &entries {
                let Some(tests) = self.together(state, register, parts) else {
                    return state
                        .unknown("several things, one of which no policy speaks of".into());
                };
                let then = verdict.as_ref().map(|it| self.then(it));
                lists.extend(tests.into_iter().map(|it| (it, then.clone())));
            }
            return state.lists(lists, map);
        }
        let single = |it: &(Vec<(Vec<u8>, Vec<u8>)>, Option<Verdict>)| it.0[0].clone();
        if !map {
            let mut ranges: Ranges = entries.iter().map(single).collect();
            if rest.is_some() {
                ranges = vec![(vec![0; loaded.field.length()], vec![255; loaded.field.length()])];
            }
            return state.ask(&loaded, among(&loaded, &ranges, inverted));
        }
        // Those that lead to the same, together.
        let mut by: Vec<(Then, Ranges)> = Vec::new();
        for entry in &entries {
            let Some(verdict) = &entry.1 else { continue };
            let then = self.then(verdict);
            match by.iter_mut().find(|it| it.0 == then) {
                Some((_, ranges)) => ranges.push(single(entry)),
                None => by.push((then, vec![single(entry)])),
            }
        }
        let all: Ranges = entries.iter().map(single).collect();
        let mut asked: Vec<(Asked, Then)> =
            by.into_iter().map(|(then, ranges)| (among(&loaded, &ranges, false), then)).collect();
        if let Some(verdict) = rest {
            asked.push((among(&loaded, &all, true), self.then(&verdict)));
        }
        state.choose(&loaded, asked);
    }

    /// The tests of a key that has parts.
    fn together(
        &self,
        state: &State,
        register: u32,
        parts: &[(Vec<u8>, Vec<u8>)],
    ) -> Option<Vec<Vec<Test>>> {
        let mut lists = vec![Vec::new()];
        let mut word = 0;
        for (first, last) in parts {
            let loaded = state.registers.at(register, word);
            word += u32::try_from(first.len().div_ceil(4)).ok()?;
            match among(&loaded, &vec![(first.clone(), last.clone())], false) {
                Asked::All(tests) => {
                    lists.iter_mut().for_each(|it: &mut Vec<Test>| it.extend(tests.clone()));
                }
                Asked::Any(tests) => lists = product(&lists, &tests),
                Asked::Unknown(_) => return None,
            }
        }
        Some(lists)
    }
}

fn product(lists: &[Vec<Test>], tests: &[Test]) -> Vec<Vec<Test>> {
    let with =
        |list: &Vec<Test>, test: &Test| list.iter().chain([test]).cloned().collect::<Vec<Test>>();
    lists.iter().flat_map(|list| tests.iter().map(move |test| with(list, test))).collect()
}

impl State {
    /// Whoever asks something behind a rate has others use it up.
    fn spoils_rate(&mut self) {
        if self.rate.take().is_some() {
            self.unknown("a rate that packets use up which it is not about".into());
        }
    }

    fn ask(&mut self, loaded: &Loaded, asked: Asked) {
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
            Asked::Any(_) => self.unknown("more combinations than are told apart".into()),
            Asked::Unknown(what) => self.unknown(what),
        }
    }

    fn unknown(&mut self, what: String) {
        let test = Test::Opaque(format!("it looks at {what}"));
        self.lists.iter_mut().for_each(|it| it.push(test.clone()));
    }

    fn end(&mut self, then: Then) {
        let ways = self.lists.drain(..).map(|tests| Way { tests, then: then.clone() });
        self.ends = Some(ways.collect());
    }

    /// Several lists of tests, each with where it leads in a map.
    fn lists(&mut self, lists: Vec<(Vec<Test>, Option<Then>)>, map: bool) {
        self.spoils_rate();
        if self.lists.len() * lists.len() > MOST {
            return self.unknown("more combinations than are told apart".into());
        }
        let mut found = Vec::new();
        for before in &self.lists {
            for (tests, then) in &lists {
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
    fn choose(&mut self, loaded: &Loaded, asked: Vec<(Asked, Then)>) {
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

    fn limit(&mut self, limit: &Limit) {
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
            _ => self.unknown("a rate that a policy cannot name".into()),
        }
    }

    fn other(&mut self, name: &str, data: &[u8]) {
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
                self.end(Then::Unknown("it hands packets to a program".into()));
            }
            "target" => {
                self.end(Then::Unknown("it does what is not understood (`target`)".into()));
            }
            _ => {
                self.registers.forget();
                self.unknown(format!("`{}`, which is not understood", name.escape_debug()));
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
fn of_both(ways: Vec<Way>, number: u8) -> Vec<Way> {
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

/// What an owner says of a rule: text that ends with a zero, behind a kind of zero and its length.
fn comment(user_data: &[u8]) -> Option<String> {
    let mut rest = user_data;
    while let [kind, length, behind @ ..] = rest {
        let value = behind.get(..usize::from(*length))?;
        if *kind == 0 {
            let text = String::from_utf8_lossy(value.strip_suffix(&[0]).unwrap_or(value));
            return Some(text.trim().to_owned()).filter(|it| !it.is_empty());
        }
        rest = &behind[usize::from(*length)..];
    }
    None
}
