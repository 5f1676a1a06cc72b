//! What has come to ports, as the kernel remembers it.

use super::{Cell, Style};
use tipstaff_app::{Came, grouped};
use tipstaff_core::analysis::lasting;

/// A bar has no more signs than this.
const LONGEST: u64 = 8;

/// What has come, for a table.
pub fn cell(came: Option<&Came>) -> Cell {
    let Some(came) = came else { return Cell::default() };
    let mut cell = Cell::default();
    for (words, style) in words(came) {
        cell = cell.line(words, style);
    }
    cell
}

/// The same with bars, whose length grows with the logarithm: next to a flood the others are still seen.
pub fn bars(came: Option<&Came>) -> Cell {
    let Some(came) = came else { return Cell::default() };
    let mut cell = Cell::default();
    for (count, (words, style)) in counts(came).into_iter().zip(words(came)) {
        let bar = "#".repeat(usize::try_from(magnitude(count)).unwrap_or_default());
        cell = cell.line(format!("{bar} {words}").trim_start(), style);
    }
    cell
}

/// What has come, in words.
pub fn said(came: &Came) -> String {
    let words: Vec<String> = words(came).into_iter().map(|it| it.0).collect();
    words.join(", ")
}

/// How long a bar for so many is: nothing for none, else one for each power of ten that is reached, and one.
pub fn magnitude(count: u64) -> u64 {
    count.checked_ilog10().map_or(0, |it| u64::from(it) + 1).min(LONGEST)
}

/// What the column is about.
pub fn note(within: Option<u32>) -> Option<String> {
    let within = lasting(within?.into());
    Some(format!(
        "came: the packets of the last {within}, as far as the kernel remembers; of a connection that is \
         admitted the first only."
    ))
}

/// What the bars mean.
pub fn note_of_bars(within: Option<u32>) -> Option<String> {
    note(within).map(|it| format!("{it} A bar is longer by one for ten times as many."))
}

/// How many were admitted, if that is known, and how many were not.
fn counts(came: &Came) -> Vec<u64> {
    came.admitted.into_iter().chain([came.denied]).collect()
}

fn words(came: &Came) -> Vec<(String, Style)> {
    let admitted = came.admitted.map(|it| one(it, "admitted", Style::Good));
    admitted.into_iter().chain([one(came.denied, "denied", Style::Closed)]).collect()
}

fn one(count: u64, how: &str, style: Style) -> (String, Style) {
    match count {
        0 => (format!("none {how}"), Style::Faint),
        count => (format!("{} {how}", grouped(count)), style),
    }
}

#[cfg(test)]
mod tests {
    use super::magnitude;

    #[test]
    fn bars_grow_with_the_logarithm() {
        let lengths = [0, 1, 9, 10, 999, 1_000, u64::MAX].map(magnitude);
        assert_eq!(lengths, [0, 1, 1, 2, 3, 4, 8]);
    }
}
