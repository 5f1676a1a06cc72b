//! Which of many conditions may meet, found without looking at each.

use super::hull::Hull;
use crate::space::ByProtocol;

/// An axis is cut into so many buckets at most.
const BUCKETS: usize = 256;

/// A set of places in a list.
type Bits = Vec<u64>;

/// One axis: where its buckets begin, and for each the places whose range reaches into it.
#[derive(Clone, Debug)]
struct Axis {
    starts: Vec<u64>,
    buckets: Vec<Bits>,
}

impl Axis {
    /// Cuts the axis so that about equally many ranges begin in each bucket.
    fn new(ranges: &[Option<(u64, u64)>]) -> Self {
        let mut firsts: Vec<u64> = ranges.iter().flatten().map(|it| it.0).collect();
        firsts.sort_unstable();
        let step = (firsts.len() / BUCKETS).max(1);
        let mut starts: Vec<u64> = firsts.into_iter().step_by(step).collect();
        starts.insert(0, 0);
        starts.dedup();
        let words = ranges.len().div_ceil(64);
        let mut axis = Self { buckets: vec![vec![0; words]; starts.len()], starts };
        for (place, range) in ranges.iter().enumerate() {
            if let Some(range) = range {
                for bucket in axis.reach(*range) {
                    axis.buckets[bucket][place / 64] |= 1 << (place % 64);
                }
            }
        }
        axis
    }

    /// The buckets that a range reaches into.
    fn reach(&self, (first, last): (u64, u64)) -> std::ops::Range<usize> {
        let bucket = |value| self.starts.partition_point(|&start| start <= value);
        bucket(first) - 1..bucket(last)
    }

    /// Adds the places whose ranges may meet this one.
    fn add(&self, range: Option<(u64, u64)>, bits: &mut [u64]) {
        for bucket in range.map(|range| self.reach(range)).into_iter().flatten() {
            for (all, more) in bits.iter_mut().zip(&self.buckets[bucket]) {
                *all |= more;
            }
        }
    }
}

/// Conditions by their senders, and by what they carry.
#[derive(Clone, Debug)]
pub(super) struct Index {
    words: usize,
    senders: [Axis; 2],
    ports: ByProtocol<Axis>,
    /// Conditions that take traffic without ports.
    portless: Bits,
}

impl Index {
    /// An index of a list of hulls.
    pub(super) fn new(hulls: &[&Hull]) -> Self {
        fn axis(hulls: &[&Hull], range: impl Fn(&Hull) -> Option<(u64, u64)>) -> Axis {
            Axis::new(&hulls.iter().map(|hull| range(hull)).collect::<Vec<_>>())
        }
        let words = hulls.len().div_ceil(64);
        let mut portless = vec![0; words];
        for (place, hull) in hulls.iter().enumerate() {
            if hull.portless() {
                portless[place / 64] |= 1 << (place % 64);
            }
        }
        Self {
            words,
            senders: [axis(hulls, Hull::senders_v4), axis(hulls, Hull::senders_v6)],
            ports: ByProtocol::new(|protocol| axis(hulls, |hull| hull.ports(protocol))),
            portless,
        }
    }

    /// The places, ascending, of conditions that may meet the hull.
    pub(crate) fn meeting(&self, hull: &Hull) -> impl Iterator<Item = usize> + use<> {
        let mut senders = vec![0; self.words];
        self.senders[0].add(hull.senders_v4(), &mut senders);
        self.senders[1].add(hull.senders_v6(), &mut senders);
        let mut traffic = vec![0; self.words];
        for (protocol, axis) in self.ports.iter() {
            axis.add(hull.ports(protocol), &mut traffic);
        }
        if hull.portless() {
            for (all, more) in traffic.iter_mut().zip(&self.portless) {
                *all |= more;
            }
        }
        let words = senders.into_iter().zip(traffic).map(|(a, b)| a & b).enumerate();
        words.flat_map(|(at, word)| Ones(word).map(move |bit| at * 64 + bit))
    }
}

/// The bits of a word that are set.
struct Ones(u64);

impl Iterator for Ones {
    type Item = usize;

    fn next(&mut self) -> Option<usize> {
        let bit = self.0.trailing_zeros() as usize;
        self.0 &= self.0.checked_sub(1)?;
        Some(bit)
    }
}
