//! A rule of others, expression by expression.

use super::asked::{Asked, Ranges, among, compared};
use super::field::{Field, Known, Loaded, Registers};
use super::sets::{Entry, Values, values};
use super::state::{State, of_both, product};
use crate::ruleset::interface_key;
use crate::translation::held::{Others, TableName};
use tipstaff_core::adopt::{Row, Then};
use tipstaff_core::program::Test;
use tipstaff_core::space::Family;
use tipstaff_wire::nf_tables::{Compare, Expression, FAMILY_IPV4, FAMILY_IPV6, Rule, Verdict};

/// Reads rules of a table.
pub(super) struct Reader<'o> {
    pub others: &'o Others,
    pub table: &'o TableName,
    /// The name under which a chain of the table is kept.
    pub name: &'o dyn Fn(&str) -> String,
    /// The machine's interfaces by their numbers.
    pub links: &'o [(u32, String)],
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
            comment: comment(&rule.user_data),
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
            comment: state.comment,
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
                let (loaded, [data]) = self.by_name(state.registers.at(*register, 0), [data]);
                state.ask(&loaded, compared(&loaded, *op, &data));
            }
            Expression::Range { register, op, from, to } => {
                let loaded = state.registers.at(*register, 0);
                let ranges = vec![(from.clone(), to.clone())];
                state.ask(&loaded, among(&loaded, &ranges, *op != Compare::Equal));
            }
            Expression::Lookup { set, register, to_verdict, flags, .. } => {
                self.lookup(state, set, *register, *to_verdict, *flags & 1 != 0);
            }
            Expression::Immediate(verdict) => state.end(&self.then(verdict)),
            Expression::Reject { .. } => state.end(&Then::Reject),
            Expression::Counter { packets, .. } => state.packets = Some(*packets),
            Expression::Log { .. } => state.log = true,
            Expression::Limit(limit) => state.limit(limit),
            Expression::MetaSet { .. } | Expression::Nat { .. } | Expression::Redirect { .. } => {}
            Expression::Dynset { .. } => state.unknown("a rate that each sender has"),
            Expression::DynsetCounts { .. } | Expression::DynsetAdds { .. } => {
                state.unknown("whether a set has room");
            }
            Expression::Tproxy { .. } => {
                state.end(&Then::Unknown("it hands packets to a program".into()));
            }
            Expression::Other { name, data } => state.other(name, data),
            other => {
                state.registers.forget();
                state.unknown(&format!("`{}`, which is not understood", other.name()));
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
        let (loaded, []) = self.by_name(state.registers.at(register, 0), []);
        let Some(held) = self.others.set(self.table, set) else {
            return state.unknown("a set that cannot be read");
        };
        let Some(values) = values(held, |words| state.registers.at(register, words).field) else {
            return state.unknown("a set that changes by itself");
        };
        let Values { entries, rest } = values;
        // Several fields, one behind the other.
        if entries.iter().any(|it| it.0.len() > 1) {
            if inverted || (rest.is_some() && map) {
                return state.unknown("several things that must not go together");
            }
            let mut lists = Vec::new();
            for (parts, verdict) in &entries {
                let Some(tests) = self.together(state, register, parts) else {
                    return state.unknown("several things, one of which no policy speaks of");
                };
                let then = verdict.as_ref().map(|it| self.then(it));
                lists.extend(tests.into_iter().map(|it| (it, then.clone())));
            }
            return state.lists(&lists, map);
        }
        let number = state.registers.at(register, 0);
        let single = |it: &Entry| {
            let (first, last) = &it.0[0];
            let (_, [first, last]) = self.by_name(number.clone(), [first, last]);
            (first, last)
        };
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

    /// Numbers of interfaces as their names, where those are known.
    fn by_name<const N: usize>(
        &self,
        loaded: Loaded,
        values: [&Vec<u8>; N],
    ) -> (Loaded, [Vec<u8>; N]) {
        let field = match loaded.field {
            Field::InNumber => Field::InInterface,
            Field::OutNumber => Field::OutInterface,
            _ => return (loaded, values.map(Clone::clone)),
        };
        let name = |value: &Vec<u8>| {
            let number = u32::from_ne_bytes(value.as_slice().try_into().ok()?);
            let link = self.links.iter().find(|it| it.0 == number)?;
            Some(interface_key(&link.1))
        };
        let names = values.map(name);
        if names.iter().any(Option::is_none) || loaded.mask.is_some() {
            return (loaded, values.map(Clone::clone));
        }
        (Loaded::whole(field), names.map(Option::unwrap_or_default))
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
            let (loaded, [first, last]) =
                self.by_name(state.registers.at(register, word), [first, last]);
            word += u32::try_from(first.len().div_ceil(4)).ok()?;
            match among(&loaded, &vec![(first, last)], false) {
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
