//! What is known of some packets that were sent together.

use super::observed::{Counts, GROUPS, Met};
use tipstaff_wire::packet::{Answer, Seen};

/// Packets that were sent together, and what has been reported of them.
pub(super) struct Lot {
    /// The tag of the first; the others follow.
    first: u32,
    /// What became of each, as far as that was reported.
    pub met: Vec<Option<Met>>,
    /// How many reports of each group were about these packets, or about none that we know.
    reported: [u64; GROUPS.len()],
}

impl Lot {
    pub(super) fn new(first: u32, packets: usize) -> Self {
        Self { first, met: vec![None; packets], reported: [0; GROUPS.len()] }
    }

    /// Notes a report. One about an earlier lot that came too late for it is passed over: it must not
    /// stand for one about this that is still to come.
    pub(super) fn note(&mut self, group: usize, seen: Seen) {
        let (tag, what) = match (seen, GROUPS[group].met) {
            (Seen::Foreign, _) => {
                self.reported[group] += 1;
                return;
            }
            (Seen::Probe(tag), met @ Some(_)) => (tag, met),
            (Seen::Answer(tag, Answer::Reset | Answer::Prohibited), None) => {
                (tag, Some(Met::Rejected))
            }
            (Seen::Answer(tag, Answer::OtherError), None) => (tag, Some(Met::StoppedOddly)),
            (Seen::Probe(tag) | Seen::Answer(tag, _), _) => (tag, None),
        };
        let at = tag.checked_sub(self.first).and_then(|at| usize::try_from(at).ok());
        if let Some(met) = at.and_then(|at| self.met.get_mut(at)) {
            self.reported[group] += 1;
            *met = what.or(*met);
        }
    }

    /// Whether all packets that the observer has met since then arrived, and were reported if they were
    /// to be: then what was not reported was denied.
    pub(super) fn is_whole(&self, before: &Counts, after: &Counts) -> bool {
        let since = |group: usize| after.reported[group] - before.reported[group];
        let all = (0..GROUPS.len()).all(|group| since(group) == self.reported[group]);
        all && after.arrived - before.arrived == self.met.len() as u64
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn counts(arrived: u64, closed: u64) -> Counts {
        Counts { arrived, reported: [0, closed, 0, 0] }
    }

    #[test]
    fn a_report_that_is_late_does_not_stand_for_another() {
        const CLOSED: usize = 1;
        // A packet got through, and the report of that is late: the same is sent again, as number 8.
        let mut again = Lot::new(8, 1);
        again.note(CLOSED, Seen::Probe(7));
        let (before, after) = (counts(1, 1), counts(2, 2));
        assert!(!again.is_whole(&before, &after), "nothing is known of number 8 yet");
        again.note(CLOSED, Seen::Probe(8));
        assert!(again.is_whole(&before, &after));
        assert_eq!(again.met, [Some(Met::Closed)]);
    }

    #[test]
    fn what_arrived_and_was_not_reported_was_denied() {
        let lot = Lot::new(1, 2);
        assert!(lot.is_whole(&counts(0, 0), &counts(2, 0)));
        assert!(!lot.is_whole(&counts(0, 0), &counts(1, 0)), "one is lost");
        assert!(!lot.is_whole(&counts(0, 0), &counts(2, 1)), "a report is to come");
    }
}
