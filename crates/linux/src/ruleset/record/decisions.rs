//! Decisions by number, as the keys of the record have them.

use super::super::names::{TABLE, text_of, user_data};
use super::layout::DECISIONS;
use std::collections::HashMap;
use tipstaff_core::plan::RuleId;
use tipstaff_core::policy::Record;
use tipstaff_core::space::Direction;
use tipstaff_wire::nf_tables::{Element, Expression, PROHIBITED, RejectKind, Set, Verdict};

/// Under this number stands what is remembered.
const WHAT: u32 = 0;
const ALL: &str = "all";
const DENIED: &str = "denied";

/// How a packet is turned away.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) enum Refusal {
    Drop,
    Reset,
    Prohibit,
}

impl Refusal {
    pub(crate) const ALL: [Self; 3] = [Self::Drop, Self::Reset, Self::Prohibit];

    /// What turns a packet away so.
    pub(crate) fn verdict(self) -> Expression {
        match self {
            Self::Drop => Expression::Immediate(Verdict::Drop),
            Self::Reset => Expression::Reject { kind: RejectKind::TcpReset, code: 0 },
            Self::Prohibit => {
                Expression::Reject { kind: RejectKind::Unreachable, code: PROHIBITED }
            }
        }
    }

    /// The word for it in names of chains.
    pub(crate) fn word(self) -> &'static str {
        match self {
            Self::Drop => "drop",
            Self::Reset => "reset",
            Self::Prohibit => "prohibit",
        }
    }
}

/// What a decision did with packets of a direction.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) struct Decided {
    pub direction: Direction,
    pub id: RuleId,
    pub admitted: bool,
}

impl Decided {
    fn text(&self) -> String {
        let what = if self.admitted { "admitted" } else { "denied" };
        format!("{}/{what}/{}", self.direction.as_str(), self.id)
    }

    fn parse(text: &str) -> Option<Self> {
        let (direction, rest) = text.split_once('/')?;
        let (what, id) = rest.split_once('/')?;
        let admitted = match what {
            "admitted" => true,
            "denied" => false,
            _ => return None,
        };
        Some(Self { direction: Direction::parse(direction)?, id: RuleId::parse(id), admitted })
    }
}

/// The numbers of decisions, from 1 on.
#[derive(Clone, Debug, Default)]
pub(crate) struct Decisions {
    list: Vec<Decided>,
    numbers: HashMap<Decided, u32>,
}

impl Decisions {
    /// The number of a decision; a new one if it has none.
    pub(crate) fn number(&mut self, decided: &Decided) -> u32 {
        if let Some(number) = self.numbers.get(decided) {
            return *number;
        }
        self.list.push(decided.clone());
        let number = u32::try_from(self.list.len()).unwrap_or(u32::MAX);
        self.numbers.insert(decided.clone(), number);
        number
    }

    /// Those that the kernel has.
    pub(crate) fn of(known: &HashMap<u32, Decided>) -> Self {
        let mut numbered: Vec<(&u32, &Decided)> = known.iter().collect();
        numbered.sort_unstable_by_key(|it| it.0);
        let mut decisions = Self::default();
        for (_, decided) in numbered {
            decisions.number(decided);
        }
        decisions
    }

    /// The set that says which number stands for which.
    pub(crate) fn set(&self, id: u32, record: Record) -> (Set, Vec<Element>) {
        let what = if record.admitted { ALL } else { DENIED };
        let first =
            Element { user_data: user_data(what), ..Element::key(WHAT.to_ne_bytes().to_vec()) };
        let numbered = (1_u32..).zip(&self.list).map(|(number, decided)| Element {
            user_data: user_data(&decided.text()),
            ..Element::key(number.to_ne_bytes().to_vec())
        });
        let elements: Vec<Element> = std::iter::once(first).chain(numbered).collect();
        let set = Set {
            table: TABLE.into(),
            name: DECISIONS.into(),
            key_length: 4,
            id,
            ..Set::default()
        };
        (set, elements)
    }
}

/// Whether also what was admitted is remembered, as the kernel says it.
pub(crate) fn remembers_admitted(elements: &[Element]) -> bool {
    let what = elements.iter().find(|it| it.key == WHAT.to_ne_bytes());
    what.and_then(|it| text_of(&it.user_data)) == Some(ALL)
}

/// Which number stands for which decision, as the kernel says it.
pub(crate) fn read(elements: &[Element]) -> HashMap<u32, Decided> {
    let one = |it: &Element| {
        let number = u32::from_ne_bytes(it.key.as_slice().try_into().ok()?);
        Some((number, Decided::parse(text_of(&it.user_data)?)?))
    };
    elements.iter().filter_map(one).collect()
}
