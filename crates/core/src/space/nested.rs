//! Addresses as few networks, of which others are left out, as people write them down.

use super::{AddressSet, Block, Family};
use std::fmt;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// A network, and what is left out of it: networks, of which parts may be meant again.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Nested {
    /// The network.
    pub network: Block,
    /// What of it is not meant. Of each of these, its own exceptions are meant again.
    pub except: Vec<Nested>,
}

impl Nested {
    /// How many networks it names.
    #[must_use]
    pub fn count(&self) -> usize {
        1 + self.except.iter().map(Self::count).sum::<usize>()
    }

    /// The addresses that are meant.
    #[must_use]
    pub fn addresses(&self) -> AddressSet {
        let left_out = self.except.iter().map(Self::addresses).collect();
        self.network.addresses().difference(&left_out)
    }

    /// The version, if it is all of one.
    #[must_use]
    pub fn version(&self) -> Option<Family> {
        let whole = self.network.addresses();
        Family::BOTH.into_iter().find(|&it| whole.has_all(it))
    }

    /// What is left out, each with what of it is meant again.
    #[must_use]
    pub fn exceptions(&self) -> Vec<String> {
        self.except.iter().map(|it| Deep(it, 1).to_string()).collect()
    }

    fn write(&self, out: &mut fmt::Formatter<'_>, depth: usize) -> fmt::Result {
        match self.version() {
            Some(version) => write!(out, "{version}")?,
            None => write!(out, "{}", self.network)?,
        }
        if self.except.is_empty() {
            return Ok(());
        }
        let word = if depth.is_multiple_of(2) { "except" } else { "but" };
        let (open, close) = if depth == 0 { ("", "") } else { ("(", ")") };
        write!(out, " {open}{word} ")?;
        for (at, part) in self.except.iter().enumerate() {
            out.write_str(if at > 0 { ", " } else { "" })?;
            part.write(out, depth + 1)?;
        }
        out.write_str(close)
    }
}

/// One as it is written within others.
struct Deep<'n>(&'n Nested, usize);

impl fmt::Display for Deep<'_> {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.write(out, self.1)
    }
}

impl fmt::Display for Nested {
    /// `198.51.100.0/24 except 198.51.100.8/29 (but 198.51.100.9)`; a whole version goes by its name.
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.write(out, 0)
    }
}

/// All of a list, one behind the other.
#[must_use]
pub fn nested_words(list: &[Nested]) -> String {
    let plain = list.iter().all(|it| it.except.is_empty());
    let words: Vec<String> = list.iter().map(ToString::to_string).collect();
    words.join(if plain { ", " } else { "; " })
}

impl AddressSet {
    /// The fewest networks that tell the set from `others`, exceptions counted; addresses in neither do not
    /// matter, and may be taken for either. IPv4 comes first.
    ///
    /// # References
    /// Draves, King, Venkatachary and Zill, "Constructing optimal IP routing tables" (1999): what is meant
    /// and what is not are two ways, and what does not matter may go either.
    #[must_use]
    pub fn nested(&self, others: &Self) -> Vec<Nested> {
        // One network each is as few as can be; very many sets are, and the others of each are long.
        let few = |ranges: usize| ranges <= 1;
        if few(self.v4.ranges().len())
            && few(self.v6.ranges().len())
            && let blocks = self.blocks()
            && blocks.len() == usize::from(!self.v4.is_empty()) + usize::from(!self.v6.is_empty())
        {
            let plain = |network| Nested { network, except: Vec::new() };
            return blocks.into_iter().map(plain).collect();
        }
        let mut list = Vec::new();
        for family in Family::BOTH {
            let ranges = |set: &Self| -> Vec<(u128, u128)> {
                match family {
                    Family::V4 => {
                        set.v4.ranges().iter().map(|it| (it.0.into(), it.1.into())).collect()
                    }
                    Family::V6 => set.v6.ranges().to_vec(),
                }
            };
            let (meant, not) = (ranges(self), ranges(&others.difference(self)));
            let width = if family == Family::V4 { 32 } else { 128 };
            Tree::grow(&meant, &not, Prefix { first: 0, length: 0, width }).tell(false, &mut list);
        }
        list
    }
}

/// The addresses that begin with the same bits.
#[derive(Clone, Copy, Debug)]
struct Prefix {
    first: u128,
    length: u8,
    /// How many bits an address has.
    width: u8,
}

impl Prefix {
    fn last(self) -> u128 {
        match self.width - self.length {
            128 => u128::MAX,
            rest => self.first | ((1 << rest) - 1),
        }
    }

    fn halves(self) -> [Self; 2] {
        let length = self.length + 1;
        let second = self.first | 1 << (self.width - length);
        [Self { length, ..self }, Self { first: second, length, ..self }]
    }

    /// The longest one inside this that holds all of some ranges and others, as far as they reach into it.
    fn around(self, some: &[(u128, u128)], others: &[(u128, u128)]) -> Self {
        let firsts = [some.first(), others.first()].into_iter().flatten().map(|it| it.0);
        let lasts = [some.last(), others.last()].into_iter().flatten().map(|it| it.1);
        let (Some(first), Some(last)) = (firsts.min(), lasts.max()) else { return self };
        let (first, last) = (first.max(self.first), last.min(self.last()));
        let mut found = self;
        while found.length < found.width {
            let inside = |it: &Self| it.first <= first && last <= it.last();
            match found.halves().into_iter().find(inside) {
                Some(half) => found = half,
                None => break,
            }
        }
        found
    }

    fn block(self) -> Option<Block> {
        let address: IpAddr = match self.width {
            32 => Ipv4Addr::from_bits(u32::try_from(self.first).ok()?).into(),
            _ => Ipv6Addr::from_bits(self.first).into(),
        };
        Block::parse(&format!("{address}/{}", self.length)).ok()
    }
}

/// A prefix, and what is in it.
struct Tree {
    prefix: Prefix,
    /// Whether something in it is not meant, and whether something is.
    holds: [bool; 2],
    /// Whether it can be told with the fewest networks if it is taken for not meant, or for meant.
    may_be: [bool; 2],
    halves: Option<Box<[Self; 2]>>,
}

/// The ranges that reach into a prefix.
fn within(ranges: &[(u128, u128)], prefix: Prefix) -> &[(u128, u128)] {
    let from = ranges.partition_point(|it| it.1 < prefix.first);
    let to = ranges.partition_point(|it| it.0 <= prefix.last());
    &ranges[from..to.max(from)]
}

impl Tree {
    fn grow(meant: &[(u128, u128)], not: &[(u128, u128)], prefix: Prefix) -> Self {
        let (meant, not) = (within(meant, prefix), within(not, prefix));
        let holds = [!not.is_empty(), !meant.is_empty()];
        if holds != [true, true] {
            // No wider than it needs.
            let some = if holds[1] { meant } else { not };
            let prefix = prefix.around(some, &[]);
            return Self { prefix, holds, may_be: [!holds[1], !holds[0]], halves: None };
        }
        // Where only one half has something, that is all there is to look at.
        let prefix = prefix.around(meant, not);
        let halves = prefix.halves().map(|half| Self::grow(meant, not, half));
        let [a, b] = &halves;
        let both = [0, 1].map(|way| a.may_be[way] && b.may_be[way]);
        let either = [0, 1].map(|way| a.may_be[way] || b.may_be[way]);
        let may_be = if both == [false, false] { either } else { both };
        Self { prefix, holds, may_be, halves: Some(Box::new(halves)) }
    }

    /// Adds what is to be told, where all is taken for `meant` unless something else is told.
    fn tell(&self, meant: bool, list: &mut Vec<Nested>) {
        let other = usize::from(!meant);
        if self.may_be[usize::from(meant)] {
            for half in self.halves.iter().flat_map(|it| it.iter()) {
                half.tell(meant, list);
            }
            return;
        }
        // Likewise where only one half has some of it.
        if let Some(halves) = &self.halves
            && let [false, true] | [true, false] = halves.each_ref().map(|it| it.holds[other])
        {
            return halves.iter().for_each(|it| it.tell(meant, list));
        }
        let mut except = Vec::new();
        for half in self.halves.iter().flat_map(|it| it.iter()) {
            half.tell(!meant, &mut except);
        }
        list.extend(self.prefix.block().map(|network| Nested { network, except }));
    }
}

#[cfg(test)]
mod tests {
    use super::nested_words;
    use crate::space::{AddressSet, Block};

    fn set(text: &str) -> AddressSet {
        let blocks = text.split(", ").filter(|it| !it.is_empty());
        blocks.map(|it| Block::parse(it).expect("a network").addresses()).collect()
    }

    fn words(set: &AddressSet, others: &AddressSet) -> String {
        nested_words(&set.nested(others))
    }

    #[test]
    fn exceptions_within_exceptions_are_told() {
        let (all, net, one) = (AddressSet::full(), set("198.51.100.0/24"), set("198.51.100.9"));
        let v4 = set("0.0.0.0/0");
        assert_eq!(words(&net.difference(&one), &all), "198.51.100.0/24 except 198.51.100.9");
        let rest = v4.difference(&net).union(&one);
        assert_eq!(words(&rest, &all), "IPv4 except 198.51.100.0/24 (but 198.51.100.9)");
        let deep = rest.difference(&one).union(&set("198.51.100.8/29")).difference(&one);
        assert_eq!(
            words(&deep, &all),
            "IPv4 except 198.51.100.0/24 (but 198.51.100.8/29 (except 198.51.100.9))"
        );
        let two = net.difference(&one).union(&set("2001:db8:51::/64, 2001:db8:be::/64"));
        assert_eq!(
            words(&two, &all),
            "198.51.100.0/24 except 198.51.100.9; 2001:db8:51::/64; 2001:db8:be::/64"
        );
        assert_eq!(words(&set("10.44.8.20, 2001:db8::1"), &all), "10.44.8.20, 2001:db8::1");
        assert_eq!(words(&AddressSet::full(), &all), "IPv4, IPv6");
        assert_eq!(words(&AddressSet::empty(), &all), "");
    }

    #[test]
    fn what_is_in_neither_does_not_matter_and_nothing_is_told_wider_than_it_needs() {
        // Between the two there is nobody who has to be told apart.
        let (even, odd) = (set("198.51.100.0, 198.51.100.2"), set("198.51.100.8"));
        assert_eq!(words(&even, &odd), "198.51.100.0/30");
        assert_eq!(words(&odd, &even), "198.51.100.8");
        assert_eq!(words(&set("10.44.8.20"), &AddressSet::empty()), "10.44.8.20");
    }

    #[test]
    fn it_is_exactly_the_set_and_never_longer_than_its_networks() {
        let mut state = 7_u32;
        let mut next = || {
            state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            state >> 8
        };
        for round in 0..300 {
            let mut found = AddressSet::empty();
            for _ in 0..=next() % 9 {
                let length = 20 + next() % 13;
                let mask = u32::MAX << (32 - length);
                let base = (0xc633_6400 | next() & 0xfff) & mask;
                let block = AddressSet::from_v4([(base, base | !mask)]);
                let out = next() % 3 == 0;
                found = if out { found.difference(&block) } else { found.union(&block) };
            }
            let list = found.nested(&AddressSet::full());
            let told: AddressSet = list.iter().map(super::Nested::addresses).collect();
            assert_eq!(told, found, "round {round}");
            let count: usize = list.iter().map(super::Nested::count).sum();
            assert!(count <= found.blocks().len(), "round {round}: {}", nested_words(&list));
        }
    }
}
