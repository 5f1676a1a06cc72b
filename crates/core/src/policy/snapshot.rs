//! What the files of a place said when they were read last, as it is kept.
//!
//! A text: a head of `key: value` lines, an empty line, and the addresses in ascending order, IPv4 first: a
//! network, an address or a range on each line. How many there are is in the head, so that a part that is lost is
//! noticed.

use super::{Diagnostic, Source, Time};
use crate::space::{AddressSet, Block, address_range};
use std::fmt::{self, Write as _};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

const FIRST: &str = "tipstaff snapshot 1";

/// By what a server can tell whether a far file is still what it was (RFC 9110, section 8.8).
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub struct Held {
    /// The address of the file.
    pub file: String,
    /// The `ETag` that it had.
    pub tag: Option<String>,
    /// The `Last-Modified` that it had.
    pub modified: Option<String>,
}

/// What the files of a place said.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Snapshot {
    /// The name of the place.
    pub place: String,
    /// What it comes from: [`super::Data::definition`].
    pub of: String,
    /// When it was read.
    pub taken: Time,
    /// The SHA-256 of all that was read, in hexadecimal digits.
    pub digest: String,
    /// How many lines it has that the one before it had not, and how many had gone.
    pub changed: (usize, usize),
    /// How many lines of addresses it has.
    pub lines: usize,
    /// By what far files are known again.
    pub held: Vec<Held>,
    /// The addresses; none where only the head matters.
    pub addresses: AddressSet,
}

/// One range as it is written.
struct Range(IpAddr, IpAddr);

impl fmt::Display for Range {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self(first, last) = self;
        if first == last {
            return first.fmt(out);
        }
        // A network: its first address has no bit that its size covers.
        let (first_bits, last_bits, width) = match (first, last) {
            (IpAddr::V4(a), IpAddr::V4(b)) => {
                (u128::from(a.to_bits()), u128::from(b.to_bits()), 32)
            }
            (IpAddr::V6(a), IpAddr::V6(b)) => (a.to_bits(), b.to_bits(), 128),
            _ => unreachable!("a range is of one IP version"),
        };
        let differ = first_bits ^ last_bits;
        let host_bits = 128 - differ.leading_zeros();
        let whole = differ.count_ones() == host_bits && first_bits & differ == 0;
        if whole {
            write!(out, "{first}/{}", width - host_bits)
        } else {
            write!(out, "{first}-{last}")
        }
    }
}

fn ranges(set: &AddressSet) -> impl Iterator<Item = Range> + '_ {
    let v4 = set
        .v4
        .ranges()
        .iter()
        .map(|&(a, b)| Range(Ipv4Addr::from_bits(a).into(), Ipv4Addr::from_bits(b).into()));
    let v6 = set
        .v6
        .ranges()
        .iter()
        .map(|&(a, b)| Range(Ipv6Addr::from_bits(a).into(), Ipv6Addr::from_bits(b).into()));
    v4.chain(v6)
}

/// How many lines these addresses take.
fn lines(set: &AddressSet) -> usize {
    set.v4.ranges().len() + set.v6.ranges().len()
}

impl Snapshot {
    /// One that follows another, if there was one.
    #[must_use]
    pub fn after(before: Option<&Self>, new: Self) -> Self {
        let empty = AddressSet::empty();
        let old = before.map_or(&empty, |it| &it.addresses);
        let changed = (apart(&new.addresses, old), apart(old, &new.addresses));
        Self { lines: lines(&new.addresses), changed, ..new }
    }

    /// The text that it is kept as.
    #[must_use]
    pub fn to_text(&self) -> String {
        let mut out = format!(
            "{FIRST}\nplace: {}\nof: {}\ntaken: {}\ndigest: {}\nchanged: +{} -{}\nlines: {}\n",
            self.place,
            self.of,
            self.taken,
            self.digest,
            self.changed.0,
            self.changed.1,
            self.lines,
        );
        for held in &self.held {
            let text = |it: &Option<String>| it.clone().unwrap_or_default();
            // Writing to a string cannot fail.
            let _ =
                writeln!(out, "held: {}\t{}\t{}", held.file, text(&held.tag), text(&held.modified));
        }
        out.push('\n');
        for range in ranges(&self.addresses) {
            let _ = writeln!(out, "{range}");
        }
        out
    }

    /// Reads one.
    ///
    /// # Errors
    /// The first line that is not as it is written.
    pub fn parse(source: &Source) -> Result<Self, Box<Diagnostic>> {
        let text = source.text.as_ref();
        let (head, body) = text.split_once("\n\n").ok_or_else(|| damaged(source, 0, 0))?;
        let mut found = Self::parse_head(head).ok_or_else(|| damaged(source, 0, head.len()))?;
        let (mut v4, mut v6) = (Vec::with_capacity(found.lines), Vec::new());
        let (mut at, mut count) = (head.len() + 2, 0);
        for line in body.split_inclusive('\n') {
            let range = line.strip_suffix('\n').and_then(read_range);
            match range {
                Some(Range(IpAddr::V4(a), IpAddr::V4(b))) => v4.push((a.to_bits(), b.to_bits())),
                Some(Range(IpAddr::V6(a), IpAddr::V6(b))) => v6.push((a.to_bits(), b.to_bits())),
                _ => return Err(damaged(source, at, line.len())),
            }
            count += 1;
            at += line.len();
        }
        if count != found.lines {
            return Err(damaged(source, 0, head.len()));
        }
        found.addresses = AddressSet::from_v4(v4).union(&AddressSet::from_v6(v6));
        Ok(found)
    }

    fn parse_head(head: &str) -> Option<Self> {
        let mut lines = head.lines();
        (lines.next()? == FIRST).then_some(())?;
        let mut value = |key: &str| lines.next()?.strip_prefix(key)?.strip_prefix(": ");
        let (place, of) = (value("place")?.to_owned(), value("of")?.to_owned());
        let taken = Time::parse(value("taken")?)?;
        let digest = value("digest")?.to_owned();
        let (more, fewer) = value("changed")?.split_once(' ')?;
        let changed =
            (more.strip_prefix('+')?.parse().ok()?, fewer.strip_prefix('-')?.parse().ok()?);
        let count = value("lines")?.parse().ok()?;
        let held = lines.map(|line| {
            let mut parts = line.strip_prefix("held: ")?.split('\t');
            let mut part = || parts.next().map(str::to_owned);
            let file = part()?;
            let mut value = || part().filter(|it| !it.is_empty());
            Some(Held { file, tag: value(), modified: value() })
        });
        let held = held.collect::<Option<Vec<_>>>()?;
        let addresses = AddressSet::empty();
        Some(Self { place, of, taken, digest, changed, lines: count, held, addresses })
    }
}

/// How many ranges of one set are not ranges of the other.
fn apart(set: &AddressSet, other: &AddressSet) -> usize {
    fn of<T: Ord + Copy>(set: &[(T, T)], other: &[(T, T)]) -> usize {
        set.iter().filter(|it| other.binary_search(it).is_err()).count()
    }
    of(set.v4.ranges(), other.v4.ranges()) + of(set.v6.ranges(), other.v6.ranges())
}

fn read_range(line: &str) -> Option<Range> {
    if let Some((first, last)) = line.split_once('-') {
        // Only to have it checked: both ends of one version, in order.
        address_range(first, last).ok()?;
        return Some(Range(first.parse().ok()?, last.parse().ok()?));
    }
    if !line.contains('/') {
        let address: IpAddr = line.parse().ok()?;
        return Some(Range(address, address));
    }
    let (first, last) = Block::parse(line).ok()?.ends();
    Some(Range(first, last))
}

fn damaged(source: &Source, at: usize, length: usize) -> Box<Diagnostic> {
    let message = "this snapshot of a place is damaged";
    let place = source.place.as_deref().unwrap_or_default();
    let problem = Diagnostic::error("damaged-snapshot", message, source.origin(at..at + length))
        .expected("it is not as it was written")
        .help(format!("`tipstaff place refresh {place}` writes it anew"));
    Box::new(problem)
}
