//! What is in sets of others, part by part.

use super::asked::Ranges;
use super::field::Field;
use crate::ruleset::{before, largest};
use crate::translation::held::Held;
use tipstaff_wire::nf_tables::{ForeignElement, Verdict, set_flags};

/// A key, part by part, and where it leads.
pub(super) type Entry = (Ranges, Option<Verdict>);

/// What a set holds.
pub(super) struct Values {
    /// Keys, part by part, and where each leads.
    pub entries: Vec<Entry>,
    /// Where what is in none of these leads; a set without verdicts then holds everything.
    pub rest: Option<Verdict>,
}

/// What is in a set; `None` if that changes by itself, or cannot be told. `field` tells what is in the register that is
/// looked up, so many words on.
pub(super) fn values(held: &Held, field: impl Fn(u32) -> Field) -> Option<Values> {
    if held.set.flags & (set_flags::DYNAMIC | set_flags::TIMEOUT) != 0 {
        return None;
    }
    let whole = held.set.key_length as usize;
    let lengths: Vec<usize> = match &held.set.parts[..] {
        [] => lengths(whole, field),
        parts => parts.iter().map(|it| *it as usize).collect(),
    };
    let mut entries = Vec::new();
    for (first, last, element) in ranges(held)? {
        let mut at = 0;
        let mut parts = Vec::new();
        for length in &lengths {
            let bytes = at..at + length;
            parts.push((first.get(bytes.clone())?.to_vec(), last.get(bytes)?.to_vec()));
            at += length.next_multiple_of(4);
        }
        // Several parts that reach from here to there are several ranges: that is what they say themselves.
        let several = parts.len() > 1 && first != last && element.last.is_none();
        if several {
            return None;
        }
        entries.push((parts, element.verdict.clone()));
    }
    let rest = held.rest();
    if let Some(rest) = rest
        && rest.verdict.is_none()
    {
        return Some(Values { entries, rest: Some(Verdict::Other(-1, None)) });
    }
    Some(Values { entries, rest: rest.and_then(|it| it.verdict.clone()) })
}

/// How long the parts of a key are, by what is looked up.
fn lengths(whole: usize, field: impl Fn(u32) -> Field) -> Vec<usize> {
    let (mut found, mut word) = (Vec::new(), 0);
    while (word as usize) * 4 < whole {
        let length = field(word).length();
        found.push(length);
        word += u32::try_from(length.div_ceil(4)).unwrap_or(u32::MAX / 8);
    }
    if found.len() == 1 { vec![whole] } else { found }
}

/// The ranges of a set that has no parts, no verdicts, and nothing that changes by itself.
pub(super) fn single(held: &Held) -> Option<Ranges> {
    let changes = set_flags::DYNAMIC | set_flags::TIMEOUT | set_flags::MAP;
    if held.set.flags & changes != 0 || held.set.parts.len() > 1 || held.rest().is_some() {
        return None;
    }
    Some(ranges(held)?.into_iter().map(|(first, last, _)| (first, last)).collect())
}

/// The first and last key of an element, and itself.
type Ranged<'h> = (Vec<u8>, Vec<u8>, &'h ForeignElement);

/// The elements, with the first and last key of each.
fn ranges(held: &Held) -> Option<Vec<Ranged<'_>>> {
    let intervals = held.set.flags & set_flags::INTERVAL != 0;
    let mut found = Vec::new();
    for (at, element) in held.elements.iter().enumerate() {
        let key = element.key.clone()?;
        if element.ends_interval {
            continue;
        }
        let last = match &element.last {
            Some(last) => last.clone(),
            None if !intervals || held.set.parts.len() > 1 => key.clone(),
            None => match held.elements.get(at + 1) {
                Some(next) => before(next.key.as_ref()?)?,
                None => largest(key.len()),
            },
        };
        found.push((key, last, element));
    }
    Some(found)
}
