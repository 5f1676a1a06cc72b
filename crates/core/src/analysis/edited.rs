//! Which lines of a list were edited.

use super::lines::{Line, Lines};
use crate::plan::{Act, Kind, RuleId};
use crate::space::Piece;
use std::collections::{HashMap, VecDeque};

/// When lines of two lists are alike.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Same {
    /// If they do the same with the same packets.
    Acts,
    /// If they do so by the same decision.
    Decisions,
}

/// The lines of rules that are in one list only, or in another order. A packet that none of them
/// matches meets the same lines in the same order in both, and so the same one first.
pub(super) fn changed<'l, 'p>(
    old: &'l Lines<'p>,
    new: &'l Lines<'p>,
    same: Same,
) -> Vec<&'l Line<'p>> {
    let is_rule = |line: &&Line<'_>| line.of.id.kind != Kind::Default;
    let first: Vec<&Line<'_>> = old.list.iter().filter(is_rule).collect();
    let second: Vec<&Line<'_>> = new.list.iter().filter(is_rule).collect();
    // Most of an edited list stands at its beginning and its end as it did.
    let alike = |pair: &(&&'l Line<'p>, &&'l Line<'p>)| what(pair.0, same) == what(pair.1, same);
    let begin = first.iter().zip(&second).take_while(alike).count();
    let (first, second) = (&first[begin..], &second[begin..]);
    let end = first.iter().rev().zip(second.iter().rev()).take_while(alike).count();
    let (first, second) = (&first[..first.len() - end], &second[..second.len() - end]);
    let mut places: HashMap<_, VecDeque<usize>> = HashMap::new();
    for (at, line) in second.iter().enumerate() {
        places.entry(what(line, same)).or_default().push_back(at);
    }
    let partners: Vec<Option<usize>> = first
        .iter()
        .map(|line| places.get_mut(&what(line, same)).and_then(VecDeque::pop_front))
        .collect();
    let kept = longest_ascent(&partners);
    let mut stays = vec![false; second.len()];
    let mut list = Vec::new();
    for (at, line) in first.iter().enumerate() {
        match partners[at].filter(|_| kept[at]) {
            Some(partner) => stays[partner] = true,
            None => list.push(*line),
        }
    }
    list.extend(second.iter().zip(stays).filter(|(_, stays)| !stays).map(|(line, _)| *line));
    list
}

/// What of a line has to be alike.
fn what<'l>(line: &'l Line<'_>, same: Same) -> (Act, Option<&'l RuleId>, &'l Piece) {
    (line.of.act, (same == Same::Decisions).then_some(&line.of.id), &line.piece)
}

/// Which of the numbers belong to a longest list of ascending ones (patience sorting: C. Schensted,
/// "Longest Increasing and Decreasing Subsequences", 1961).
fn longest_ascent(numbers: &[Option<usize>]) -> Vec<bool> {
    // For each length the place of the smallest number that ends such a list.
    let mut ends: Vec<usize> = Vec::new();
    let mut before: Vec<Option<usize>> = vec![None; numbers.len()];
    for (at, number) in numbers.iter().enumerate() {
        if number.is_none() {
            continue;
        }
        let length = ends.partition_point(|&end| numbers[end] < *number);
        before[at] = length.checked_sub(1).map(|shorter| ends[shorter]);
        if length == ends.len() {
            ends.push(at);
        } else {
            ends[length] = at;
        }
    }
    let mut kept = vec![false; numbers.len()];
    let mut next = ends.last().copied();
    while let Some(at) = next {
        kept[at] = true;
        next = before[at];
    }
    kept
}

#[cfg(test)]
mod tests {
    use super::longest_ascent;

    #[test]
    fn the_fewest_lines_count_as_moved() {
        let numbers = [Some(3), Some(0), None, Some(1), Some(2), Some(4)];
        assert_eq!(longest_ascent(&numbers), [false, true, false, true, true, true]);
    }
}
