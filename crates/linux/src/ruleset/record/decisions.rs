//! Decisions by number, as the keys of the record have them.

use super::super::names::{TABLE, text_of, user_data};
use super::layout::DECISIONS;
use foldhash::HashMap;
use serde::{Deserialize, Serialize};
use std::hash::Hasher;
use tipstaff_core::fnv::Fnv;
use tipstaff_core::plan::RuleId;
use tipstaff_core::program::Admitting;
use tipstaff_core::space::Direction;
use tipstaff_wire::nf_tables::{Element, Expression, PROHIBITED, RejectKind, Set, Verdict};

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

    /// Reads what [`Decided::text`] writes; what follows a space is for others.
    fn parse(text: &str) -> Option<Self> {
        let text = text.split(' ').next()?;
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

/// Since when it is remembered whom a rule admits that means what it does.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Began {
    /// The rule, and what it means.
    #[serde(flatten)]
    pub rule: Admitting,
    /// Since when, in seconds since the Unix epoch.
    pub since: u64,
}

impl Began {
    fn text(&self) -> String {
        format!(" {} {:016x}", self.since, self.rule.fingerprint)
    }

    /// Reads what [`Began::text`] writes behind what [`Decided::text`] writes.
    fn parse(text: &str) -> Option<Self> {
        let mut words = text.split(' ');
        let Decided { direction, id, .. } =
            Decided::parse(words.next()?).filter(|it| it.admitted)?;
        let since = words.next()?.parse().ok()?;
        let fingerprint = u64::from_str_radix(words.next()?, 16).ok()?;
        Some(Self { rule: Admitting { direction, id, fingerprint }, since })
    }
}

/// The numbers of decisions, from 1 on.
#[derive(Clone, Debug, Default)]
pub(crate) struct Decisions {
    list: Vec<(Decided, Option<Began>)>,
    numbers: HashMap<Decided, u32>,
}

impl Decisions {
    /// The number of a decision; a new one if it has none.
    pub(crate) fn number(&mut self, decided: &Decided) -> u32 {
        if let Some(number) = self.numbers.get(decided) {
            return *number;
        }
        self.list.push((decided.clone(), None));
        let number = u32::try_from(self.list.len()).unwrap_or(u32::MAX);
        self.numbers.insert(decided.clone(), number);
        number
    }

    /// Notes since when it is remembered whom a rule admits; gives the rule's number.
    pub(crate) fn begin(&mut self, began: Began) -> u32 {
        let Admitting { direction, id, .. } = &began.rule;
        let decided = Decided { direction: *direction, id: id.clone(), admitted: true };
        let number = self.number(&decided);
        if let Some(place) = self.list.get_mut(number as usize - 1) {
            place.1 = Some(began);
        }
        number
    }

    /// Those that the kernel has.
    pub(crate) fn of(elements: &[Element]) -> Self {
        let known = read(elements);
        let mut numbered: Vec<(&u32, &Decided)> = known.iter().collect();
        numbered.sort_unstable_by_key(|it| it.0);
        let mut decisions = Self::default();
        for (_, decided) in numbered {
            decisions.number(decided);
        }
        for began in begun(elements) {
            decisions.begin(began);
        }
        decisions
    }

    /// The same numbers, for a list for which nobody has begun yet to remember whom it admits.
    pub(crate) fn unbegun(&self) -> Self {
        let list = self.list.iter().map(|it| (it.0.clone(), None)).collect();
        Self { list, numbers: self.numbers.clone() }
    }

    /// Since when it is remembered whom rules admit.
    pub(crate) fn since(&self) -> HashMap<&Admitting, u64> {
        self.list.iter().filter_map(|it| it.1.as_ref()).map(|it| (&it.rule, it.since)).collect()
    }

    /// How many there are.
    pub(crate) fn count(&self) -> usize {
        self.list.len()
    }

    /// The set that says which number stands for which, and what is to be in it.
    pub(crate) fn set(&self, id: u32) -> (Set, Vec<Element>) {
        let numbered = (1_u32..).zip(&self.list).map(|(number, (decided, began))| Element {
            user_data: user_data(
                &(decided.text() + &began.as_ref().map(Began::text).unwrap_or_default()),
            ),
            ..Element::key(number.to_ne_bytes().to_vec())
        });
        let set = Set {
            table: TABLE.into(),
            name: DECISIONS.into(),
            key_length: 4,
            id,
            ..Set::default()
        };
        (set, numbered.collect())
    }

    /// A number for the list: another list has another one.
    pub(crate) fn fingerprint(&self) -> u64 {
        let mut hasher = Fnv::default();
        for (decided, _) in &self.list {
            hasher.write(decided.text().as_bytes());
            hasher.write(&[0]);
        }
        hasher.finish()
    }
}

/// Which number stands for which decision, as the kernel says it.
pub(crate) fn read(elements: &[Element]) -> HashMap<u32, Decided> {
    let one = |it: &Element| {
        let number = u32::from_ne_bytes(it.key.as_slice().try_into().ok()?);
        Some((number, Decided::parse(text_of(&it.user_data)?)?))
    };
    elements.iter().filter_map(one).collect()
}

/// Since when it is remembered whom rules admit, as the kernel says it, by the rules' numbers.
pub(crate) fn begun(elements: &[Element]) -> Vec<Began> {
    let number = |it: &Element| Some(u32::from_ne_bytes(it.key.as_slice().try_into().ok()?));
    let mut all: Vec<(u32, Began)> = elements
        .iter()
        .filter_map(|it| Some((number(it)?, Began::parse(text_of(&it.user_data)?)?)))
        .collect();
    all.sort_unstable_by_key(|it| it.0);
    all.into_iter().map(|it| it.1).collect()
}
