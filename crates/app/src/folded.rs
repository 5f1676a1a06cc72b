//! Effects as a person would tell them: the smallest parts of what changes are folded into what they belong to.

use crate::region::{RegionWords, Words};
use crate::vocabulary as say;
use tipstaff_core::space::Piece;

/// What is told of one change.
#[derive(Clone, Debug, Default)]
pub struct Told {
    /// The packets, without the smallest parts of them.
    pub regions: Vec<RegionWords>,
    /// How many parts are not told.
    pub more: usize,
    /// Whether nothing of it is told, since it belongs to other changes.
    pub belongs: bool,
}

impl Told {
    /// All of these regions.
    pub(crate) fn all(regions: Vec<RegionWords>) -> Self {
        Self { regions, more: 0, belongs: false }
    }
}

/// Protocols by number, of which a part has so many that it is what is left of everything.
const NEARLY_ALL: u32 = 100;

/// Whether a part is what others have left of all traffic.
fn is_rest(piece: &Piece) -> bool {
    let count = |&(first, last): &(u8, u8)| u32::from(last - first) + 1;
    piece.traffic.others.ranges().iter().map(count).sum::<u32>() > NEARLY_ALL
}

/// Whether the ends of one part are among those of another.
fn lies_between(part: &Piece, whole: &Piece) -> bool {
    part.source.difference(&whole.source).is_empty()
        && part.destination.difference(&whole.destination).is_empty()
}

/// What is told of the packets of a change: where one part is the rest of everything, other remainders
/// between the same ends go without saying.
pub(crate) fn told(pieces: &[Piece], regions: &[RegionWords], words: &Words<'_>) -> Told {
    let rests: Vec<&Piece> = pieces.iter().filter(|it| is_rest(it)).collect();
    let widest = rests.iter().find(|whole| pieces.iter().all(|part| lies_between(part, whole)));
    let Some(rest) = widest else { return Told::all(regions.to_vec()) };
    let mut region = words.piece(rest);
    if !rest.traffic.is_any() {
        region.traffic = "everything else".into();
    }
    Told { regions: vec![region], more: pieces.len() - 1, belongs: false }
}

/// The parts of the baseline that serve what else passes.
const SERVING: [&str; 3] = ["baseline/replies", "baseline/neighbours", "baseline/dhcp"];

/// Of changes, given by their kinds and by who decided before and decides after: which belong to others that
/// have the same cause, since they are of what the baseline serves.
pub(crate) fn belonging(changes: &[(say::Effect, &str, &str)]) -> Vec<bool> {
    let opens = |kind: say::Effect| kind == say::Effect::Opens;
    let serves = |&(kind, before, after): &(say::Effect, &str, &str)| {
        SERVING.contains(if opens(kind) { &after } else { &before })
    };
    let cause = |&(kind, before, after): &(say::Effect, &str, &str)| {
        (kind, if opens(kind) { before } else { after }.to_owned())
    };
    let told: Vec<_> = changes.iter().filter(|it| !serves(it)).map(cause).collect();
    changes.iter().map(|it| serves(it) && told.contains(&cause(it))).collect()
}
