//! How often each rule decided, second by second.

use std::collections::{BTreeMap, VecDeque};
use std::time::{Duration, Instant};
use tipstaff_app::vocabulary::Verdict;
use tipstaff_app::watch::Decision;

/// So many seconds are shown.
pub(super) const SECONDS: usize = 60;
/// What a rate is taken over.
const LATELY: usize = 5;

/// How often one rule decided.
pub(super) struct Rate {
    /// What it gave last.
    pub verdict: Verdict,
    /// How often in all.
    pub total: u64,
    /// Second by second, the last one last.
    pub seconds: VecDeque<u64>,
}

impl Rate {
    /// How often a second it has decided lately; the second that goes on is not over yet.
    pub(super) fn lately(&self) -> f64 {
        let over = self.seconds.iter().rev().skip(1).take(LATELY);
        let (count, sum) = over.fold((0_u32, 0_u64), |it, more| (it.0 + 1, it.1 + more));
        #[expect(clippy::cast_precision_loss, reason = "it is shown with one digit")]
        let sum = sum as f64;
        if count == 0 { 0.0 } else { sum / f64::from(count) }
    }
}

/// How often each rule decided.
pub(super) struct Rates {
    pub of: BTreeMap<(String, &'static str), Rate>,
    second: Instant,
}

impl Rates {
    pub(super) fn new(now: Instant) -> Self {
        Self { of: BTreeMap::new(), second: now }
    }

    /// Counts a decision.
    pub(super) fn count(&mut self, decision: &Decision) {
        let name = decision.by.clone().unwrap_or_else(|| "(not known)".into());
        let rate = self.of.entry((name, decision.direction.as_str())).or_insert_with(|| Rate {
            verdict: decision.verdict,
            total: 0,
            seconds: VecDeque::from([0]),
        });
        rate.verdict = decision.verdict;
        rate.total += 1;
        if let Some(last) = rate.seconds.back_mut() {
            *last += 1;
        }
    }

    /// Goes on to the second that it is now.
    pub(super) fn go_on(&mut self, now: Instant) {
        let mut steps = 0;
        while now.duration_since(self.second) >= Duration::from_secs(1) {
            self.second += Duration::from_secs(1);
            steps += 1;
        }
        for rate in self.of.values_mut() {
            for _ in 0..steps.min(SECONDS) {
                rate.seconds.push_back(0);
            }
            while rate.seconds.len() > SECONDS {
                rate.seconds.pop_front();
            }
        }
    }

    /// The busiest first.
    pub(super) fn busiest(&self) -> Vec<(&str, &'static str, &Rate)> {
        let mut list: Vec<_> =
            self.of.iter().map(|((name, direction), it)| (name.as_str(), *direction, it)).collect();
        let recent = |it: &Rate| it.seconds.iter().sum::<u64>();
        list.sort_by(|a, b| {
            recent(b.2).cmp(&recent(a.2)).then(b.2.total.cmp(&a.2.total)).then(a.0.cmp(b.0))
        });
        list
    }
}
