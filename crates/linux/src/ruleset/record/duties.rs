//! What is done about decisions besides deciding, as the kernel itself says it.

use super::super::names::{text_of, user_data};
use super::layout::{Place, is_recorded, keeps};
use tipstaff_core::plan::RuleId;
use tipstaff_core::policy::{Level, Logging, Rate, Record, Time};
use tipstaff_wire::nf_tables::{Element, Set};

/// Under this number stands what is remembered and reported, in the set with the numbers of decisions.
const WHAT: u32 = 0;
const ALL: &str = "all";
const DENIED: &str = "denied";
const NOBODY: &str = "nobody";

/// What is remembered and what is reported.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Duties {
    pub record: Option<Record>,
    pub logging: Option<Logging>,
    /// What tells in reports by which list of decisions their numbers are to be understood.
    pub list: String,
}

/// What is done, and in which sets.
#[derive(Clone, Copy)]
pub(crate) struct Keeping<'d> {
    pub duties: &'d Duties,
    pub place: Place,
}

impl Duties {
    /// Whether there are any.
    pub(crate) fn are_there(&self) -> bool {
        self.record.is_some() || self.logging.is_some()
    }

    /// Whether packets of such decisions are remembered.
    pub(crate) fn remember(&self, admitted: bool) -> bool {
        self.record.is_some_and(|it| it.admitted || !admitted)
    }

    /// Until when such decisions are reported, if they are.
    pub(crate) fn report(&self, admitted: bool) -> Option<Option<Time>> {
        self.logging.and_then(|it| it.reports(admitted))
    }

    /// Whether anything is done about such decisions.
    pub(crate) fn concern(&self, admitted: bool) -> bool {
        self.remember(admitted) || self.report(admitted).is_some()
    }

    /// Whether anything is done about a decision.
    pub(crate) fn concern_decision(&self, id: &RuleId, admitted: bool) -> bool {
        self.concern(admitted) && (!admitted || is_recorded(id))
    }

    /// What says so, in the set with the numbers of decisions.
    pub(crate) fn element(&self) -> Element {
        let record = match self.record {
            None => NOBODY,
            Some(Record { admitted: true, .. }) => ALL,
            Some(_) => DENIED,
        };
        let mut text = record.to_owned();
        if let Some(Logging { level, total, each, all_until }) = self.logging {
            let rate = |it: Rate| format!("{}/{}/{}", it.count, it.seconds, it.burst);
            let until = all_until.map_or(0, Time::seconds);
            let (total, each) = (rate(total), rate(each));
            text += &format!(" {} {total} {each} {until} {}", level.as_str(), self.list);
        }
        Element { user_data: user_data(&text), ..Element::key(WHAT.to_ne_bytes().to_vec()) }
    }

    /// Reads what [`Duties::element`] writes.
    pub(crate) fn read(decisions: &[Element], sets: &[Set]) -> Self {
        let Some(text) = text(decisions) else { return Self::default() };
        let mut words = text.split(' ');
        let record = match words.next() {
            Some(NOBODY) | None => None,
            Some(word) => keeps(sets).map(|keeps| Record { admitted: word == ALL, keeps }),
        };
        let logging = logging(&mut words);
        let list = logging.and_then(|_| words.next()).unwrap_or_default().to_owned();
        Self { record, logging, list }
    }
}

/// Whether also what was admitted is remembered, as the kernel says it.
pub(crate) fn remembers_admitted(decisions: &[Element]) -> bool {
    text(decisions).is_some_and(|it| it.split(' ').next() == Some(ALL))
}

fn text(decisions: &[Element]) -> Option<&str> {
    text_of(&decisions.iter().find(|it| it.key == WHAT.to_ne_bytes())?.user_data)
}

fn logging<'t>(words: &mut impl Iterator<Item = &'t str>) -> Option<Logging> {
    let word = words.next()?;
    let level = Level::ALL.into_iter().find(|it| it.as_str() == word)?;
    let mut rate = |per_source| {
        let mut numbers = words.next()?.split('/').map(str::parse);
        let mut number = || numbers.next()?.ok();
        Some(Rate { count: number()?, seconds: number()?, burst: number()?, per_source })
    };
    let (total, each) = (rate(false)?, rate(true)?);
    let until: i64 = words.next()?.parse().ok()?;
    let all_until = (until != 0).then(|| Time::from_seconds(until));
    Some(Logging { level, total, each, all_until })
}
