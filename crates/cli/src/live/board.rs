//! What the full screen shows: the decisions, what is chosen of them, and what has been typed.

use super::rates::Rates;
use std::collections::VecDeque;
use std::time::Instant;
use tipstaff_app::watch::{Decision, Filter};
use tipstaff_linux::watching::Losses;

/// So many decisions are kept.
const MOST: usize = 10_000;

/// What the full screen shows.
pub(super) struct Board {
    /// The host whose rules are in force.
    pub host: String,
    /// Those that the filter takes, the last one last.
    pub shown: VecDeque<Decision>,
    /// All, likewise.
    all: VecDeque<Decision>,
    /// How often each rule decided.
    pub rates: Rates,
    /// How many came, and were not seen.
    pub losses: Losses,
    /// How many were seen.
    pub seen: u64,
    /// Whether the stream stands still.
    pub held: bool,
    /// How many came since.
    pub since: u64,
    /// What came while it stands still.
    later: VecDeque<Decision>,
    /// Which of those shown is chosen, counted from the last one.
    pub chosen: Option<usize>,
    /// The filter as it was typed, and as it is being typed.
    pub typed: String,
    /// Whether it is being typed.
    pub typing: bool,
    /// What is wrong with it.
    pub wrong: Option<String>,
    filter: Filter,
    /// A text over all else, and from which line on it is shown.
    pub over: Option<(String, usize)>,
    /// What was last said.
    pub said: Option<String>,
}

impl Board {
    pub(super) fn new(host: String, typed: String, filter: Filter, now: Instant) -> Self {
        Self {
            host,
            shown: VecDeque::new(),
            all: VecDeque::new(),
            rates: Rates::new(now),
            losses: Losses::default(),
            seen: 0,
            held: false,
            since: 0,
            later: VecDeque::new(),
            chosen: None,
            typed,
            typing: false,
            wrong: None,
            filter,
            over: None,
            said: None,
        }
    }

    /// Whether the filter takes a decision.
    pub(super) fn takes(&self, decision: &Decision) -> bool {
        self.filter.takes(decision)
    }

    /// Takes up a decision.
    pub(super) fn add(&mut self, decision: Decision) {
        self.seen += 1;
        self.rates.count(&decision);
        if self.held {
            self.since += 1;
            push(&mut self.later, decision);
        } else {
            self.take_up(decision);
        }
    }

    fn take_up(&mut self, decision: Decision) {
        if self.filter.takes(&decision) {
            // Whoever has chosen one goes on looking at that one.
            if let Some(chosen) = &mut self.chosen {
                *chosen += 1;
            }
            push(&mut self.shown, decision.clone());
        }
        push(&mut self.all, decision);
        self.chosen = self.chosen.filter(|it| *it < self.shown.len());
    }

    /// Lets the stream stand still, or go on.
    pub(super) fn hold(&mut self) {
        self.held = !self.held;
        if !self.held {
            self.since = 0;
            for decision in std::mem::take(&mut self.later) {
                self.take_up(decision);
            }
        }
    }

    /// Shows those that another filter takes.
    pub(super) fn narrow(&mut self, filter: Filter) {
        self.filter = filter;
        self.shown = self.all.iter().filter(|it| self.filter.takes(it)).cloned().collect();
        self.chosen = None;
    }

    /// Chooses another one: so many further down, or up.
    pub(super) fn choose(&mut self, down: isize) {
        if self.shown.is_empty() {
            return;
        }
        let last = self.shown.len() - 1;
        self.chosen = match self.chosen {
            None if down < 0 => Some((-(down + 1)).unsigned_abs().min(last)),
            None => None,
            Some(at) if down > 0 && at.cast_signed() < down => None,
            Some(at) => Some(at.saturating_add_signed(-down).min(last)),
        };
    }

    /// The chosen one.
    pub(super) fn chosen(&self) -> Option<&Decision> {
        let at = self.shown.len().checked_sub(1)?.checked_sub(self.chosen?)?;
        self.shown.get(at)
    }
}

fn push(list: &mut VecDeque<Decision>, decision: Decision) {
    if list.len() == MOST {
        list.pop_front();
    }
    list.push_back(decision);
}
