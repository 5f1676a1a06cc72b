//! Which of many conditions may meet, found without looking at each.

use super::hull::Hull;
use crate::space::ByProtocol;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicUsize, Ordering};

/// So many questions are answered by looking at each condition: to make an index costs about as much.
const SCANS: usize = 64;

/// The hulls of a list of conditions.
#[derive(Debug)]
pub(super) struct Hulls {
    list: Vec<Hull>,
    /// Made once it pays.
    index: OnceLock<Index>,
    scans: AtomicUsize,
}

impl Hulls {
    /// The hulls, in the order of the list.
    pub(super) fn of<'h>(hulls: impl Iterator<Item = &'h Hull>) -> Self {
        Self { list: hulls.copied().collect(), index: OnceLock::new(), scans: AtomicUsize::new(0) }
    }

    /// The places, ascending, of the hulls that meet this one.
    pub(super) fn meeting<'s>(&'s self, hull: &Hull) -> impl Iterator<Item = usize> + use<'s> {
        let hull = *hull;
        let indexed =
            self.index.get().is_some() || self.scans.fetch_add(1, Ordering::Relaxed) >= SCANS;
        let places =
            indexed.then(|| self.index.get_or_init(|| Index::new(&self.list)).meeting(&hull));
        let all = if indexed { 0..0 } else { 0..self.list.len() };
        let candidates = places.into_iter().flatten().chain(all);
        candidates.filter(move |&at| self.list[at].meets(&hull))
    }
}

/// An axis is cut into so many buckets at most.
const BUCKETS: usize = 256;

/// A set of places in a list.
type Bits = Vec<u64>;

/// One axis: where its buckets begin, and for each the places whose range ends before it, and those whose range
/// begins behind it. What a range may meet is all but these, however far it reaches.
#[derive(Clone, Debug)]
struct Axis {
    starts: Vec<u64>,
    /// The places that have a range.
    some: Bits,
    ended: Vec<Bits>,
    to_come: Vec<Bits>,
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
        let none = vec![0; ranges.len().div_ceil(64)];
        let mut ended = vec![none.clone(); starts.len() + 1];
        let mut to_come = ended.clone();
        let mut axis = Self { some: none, ended: vec![], to_come: vec![], starts };
        for (place, range) in ranges.iter().enumerate() {
            if let Some(range) = range {
                let (word, bit) = (place / 64, 1 << (place % 64));
                let (first, last) = axis.reach(*range);
                axis.some[word] |= bit;
                ended[last + 1][word] |= bit;
                to_come[first][word] |= bit;
            }
        }
        for bucket in 1..ended.len() {
            add_to(&mut ended, bucket, bucket - 1);
        }
        // What begins in a bucket begins behind all that are before it.
        for bucket in (0..to_come.len() - 1).rev() {
            add_to(&mut to_come, bucket, bucket + 1);
        }
        (axis.ended, axis.to_come) = (ended, to_come);
        axis
    }

    /// The first and the last bucket that a range reaches into.
    fn reach(&self, (first, last): (u64, u64)) -> (usize, usize) {
        let bucket = |value| self.starts.partition_point(|&start| start <= value);
        (bucket(first) - 1, bucket(last) - 1)
    }

    /// Adds the places whose ranges may meet this one.
    fn add(&self, range: Option<(u64, u64)>, bits: &mut [u64]) {
        let Some(range) = range else { return };
        let (first, last) = self.reach(range);
        let others = self.ended[first].iter().zip(&self.to_come[last + 1]);
        for (all, (some, (ended, to_come))) in bits.iter_mut().zip(self.some.iter().zip(others)) {
            *all |= some & !ended & !to_come;
        }
    }
}

/// Adds one of the sets to another.
fn add_to(sets: &mut [Bits], to: usize, from: usize) {
    let added = sets[from].clone();
    sets[to].iter_mut().zip(added).for_each(|(all, more)| *all |= more);
}

/// Conditions by their senders, and by what they carry.
#[derive(Clone, Debug)]
struct Index {
    words: usize,
    senders: [Axis; 2],
    ports: ByProtocol<Axis>,
    /// Conditions that take traffic without ports.
    portless: Bits,
}

impl Index {
    /// An index of a list of hulls.
    fn new(hulls: &[Hull]) -> Self {
        fn axis(hulls: &[Hull], range: impl Fn(&Hull) -> Option<(u64, u64)>) -> Axis {
            Axis::new(&hulls.iter().map(range).collect::<Vec<_>>())
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
    fn meeting(&self, hull: &Hull) -> impl Iterator<Item = usize> + use<> {
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

#[cfg(test)]
mod tests {
    use super::{Hull, Hulls, SCANS};
    use crate::space::{AddressSet, Piece, PortProtocol, RangeSet, TrafficSet};
    use proptest::prelude::{any, proptest};

    /// A hull of senders and ports; of all traffic, of one version or of none in particular.
    fn hull((kind, a, b, port, more): (u8, u8, u8, u16, u8)) -> Hull {
        let (first, last) = (u32::from(a.min(b)), u32::from(a.max(b)));
        let source = match kind % 4 {
            0 => AddressSet::from_v4([(first << 24, (last << 24) + 9)]),
            1 => AddressSet::from_v6([(u128::from(first) << 120, u128::from(last) << 120)]),
            2 => AddressSet::full(),
            _ => AddressSet::from_v4([(first << 24, first << 24)]),
        };
        let ports = RangeSet::from_ranges([(port, port.saturating_add(more.into()))]);
        let traffic = match kind / 4 % 4 {
            0 => TrafficSet::any(),
            1 => TrafficSet::icmp(RangeSet::full(), RangeSet::empty()),
            2 => PortProtocol::Udp.traffic(ports),
            _ => PortProtocol::Tcp.traffic(ports),
        };
        Hull::of(&Piece { source, traffic, ..Piece::full() })
    }

    proptest! {
        #[test]
        fn an_index_finds_what_looking_at_each_does(
            list in proptest::collection::vec(any::<(u8, u8, u8, u16, u8)>(), 0..300),
            asked in proptest::collection::vec(any::<(u8, u8, u8, u16, u8)>(), SCANS * 2),
        ) {
            let list: Vec<Hull> = list.into_iter().map(hull).collect();
            let hulls = Hulls::of(list.iter());
            for asked in asked.into_iter().map(hull) {
                let meant: Vec<usize> = (0..list.len()).filter(|&at| list[at].meets(&asked)).collect();
                assert_eq!(hulls.meeting(&asked).collect::<Vec<_>>(), meant);
            }
        }
    }
}
