//! Regions of diagrams as lists of pieces, for people to read.

use super::atlas::{Atlas, Region};
use super::diagram::{Diagram, low_bits};
use super::fate::NOTHING;
use super::fields::{
    ASKED, DESTINATION_IS, FAMILY, Field, ICMP_TYPE, IN_INTERFACE, OUT_INTERFACE, PORT, PROGRAM,
    PROTOCOL, SOURCE_IS, SOURCE_PORT, STATE, USER, destination, icmp, source,
};
use crate::space::{
    AddressSet, ConnectionState, Family, NameSet, Piece, Point, PortProtocol, RangeSet,
    RelationSet, SourcePorts, StateSet, TrafficSet, join,
};

/// A field is not taken apart further: such a set of values would be no list that people read.
const MOST_STEPS: usize = 1 << 20;

/// The list has become longer than wanted.
struct TooMany;

/// Values of a field, and what follows for them.
type Branch = (Vec<(u128, u128)>, Diagram);

impl Atlas {
    /// The packets of a region as disjoint pieces; `None` if there are more than `most`.
    #[must_use]
    pub fn pieces(&self, region: &Region, most: usize) -> Option<Vec<Piece>> {
        let mut walk = Walk { atlas: self, most, found: Vec::new() };
        walk.states(region.root).ok()?;
        Some(join(walk.found))
    }

    /// The branches of a diagram at a field, one for each different continuation but nothing.
    fn branches(&self, diagram: Diagram, field: Field) -> Result<Vec<Branch>, TooMany> {
        if field.asked_at_once() == field.width {
            return self.branches_at_once(diagram, field);
        }
        let [first, second] = field.halves();
        let (last, second_width) = (low_bits(second.width), second.width);
        let mut list: Vec<Branch> = Vec::new();
        for (firsts, then) in self.branches_at_once(diagram, first)? {
            for (seconds, then) in self.branches_at_once(then, second)? {
                let whole = seconds[..] == [(0, last)];
                let ranges = firsts.iter().flat_map(|&(from, to)| {
                    let at = |first: u128, second| first << second_width | second;
                    let both = whole.then(|| (at(from, 0), at(to, last)));
                    let each = (from..=to).filter(move |_| !whole);
                    let each =
                        each.flat_map(|it| seconds.iter().map(move |r| (at(it, r.0), at(it, r.1))));
                    both.into_iter().chain(each).collect::<Vec<_>>()
                });
                let ranges: Vec<(u128, u128)> = ranges.collect();
                match list.iter_mut().find(|it| it.1 == then) {
                    Some(known) => known.0.extend(ranges),
                    None => list.push((ranges, then)),
                }
            }
        }
        Ok(list)
    }

    fn branches_at_once(&self, diagram: Diagram, field: Field) -> Result<Vec<Branch>, TooMany> {
        let mut list: Vec<Branch> = Vec::new();
        let count = self.diagrams.count(diagram, field.bit);
        if count > MOST_STEPS {
            return Err(TooMany);
        }
        for at in 0..count {
            let (first, then) = self.diagrams.interval(diagram, field.bit, at);
            let last = match at + 1 < count {
                true => self.diagrams.interval(diagram, field.bit, at + 1).0 - 1,
                false => low_bits(field.width),
            };
            if then == NOTHING {
                continue;
            }
            match list.iter_mut().find(|it| it.1 == then) {
                Some((ranges, _)) => ranges.push((first, last)),
                None => list.push((vec![(first, last)], then)),
            }
        }
        Ok(list)
    }
}

struct Walk<'a> {
    atlas: &'a Atlas,
    most: usize,
    found: Vec<Piece>,
}

fn set<T: Point + TryFrom<u128>>(ranges: &[(u128, u128)]) -> RangeSet<T> {
    let end = |value: u128| T::try_from(value).unwrap_or(T::MAX);
    RangeSet::from_ranges(ranges.iter().map(|it| (end(it.0), end(it.1))))
}

impl Walk<'_> {
    fn states(&mut self, diagram: Diagram) -> Result<(), TooMany> {
        for (ranges, then) in self.atlas.branches(diagram, STATE)? {
            let holds = |state: &ConnectionState| {
                ranges.iter().any(|it| (it.0..=it.1).contains(&(*state as u128)))
            };
            let states: Vec<ConnectionState> =
                ConnectionState::ALL.into_iter().filter(holds).collect();
            for (number, family) in (0..).zip(Family::BOTH) {
                let then = self.atlas.diagrams.at(then, FAMILY.bit, number);
                let piece = Piece { states: StateSet::of(&states), ..Piece::full() };
                self.addresses(then, family, &piece)?;
            }
        }
        Ok(())
    }

    fn addresses(
        &mut self,
        diagram: Diagram,
        family: Family,
        piece: &Piece,
    ) -> Result<(), TooMany> {
        let addresses = |ranges: &[(u128, u128)]| match family {
            Family::V4 => AddressSet { v4: set(ranges), v6: RangeSet::empty() },
            Family::V6 => AddressSet { v4: RangeSet::empty(), v6: set(ranges) },
        };
        for (ranges, then) in self.atlas.branches(diagram, source(family))? {
            let piece = Piece { source: addresses(&ranges), ..piece.clone() };
            for (ranges, then) in self.atlas.branches(then, destination(family))? {
                let piece = Piece { destination: addresses(&ranges), ..piece.clone() };
                self.protocols(then, family, &piece)?;
            }
        }
        Ok(())
    }

    fn protocols(
        &mut self,
        diagram: Diagram,
        family: Family,
        piece: &Piece,
    ) -> Result<(), TooMany> {
        for (ranges, then) in self.atlas.branches(diagram, PROTOCOL)? {
            let numbers: RangeSet<u8> = set(&ranges);
            for protocol in PortProtocol::ALL {
                if numbers.contains(protocol.number()) {
                    self.ports(then, protocol, piece)?;
                }
            }
            let own = icmp(family);
            if numbers.contains(own) {
                self.types(then, family, piece)?;
            }
            let spoken_for = PortProtocol::numbers().union(&RangeSet::single(own));
            let numbers = numbers.difference(&spoken_for);
            if !numbers.is_empty() {
                let traffic = TrafficSet { others: numbers, ..TrafficSet::empty() };
                let source_ports = SourcePorts { ports: RangeSet::empty(), portless: true };
                self.rest(then, &Piece { traffic, source_ports, ..piece.clone() })?;
            }
        }
        Ok(())
    }

    fn ports(
        &mut self,
        diagram: Diagram,
        protocol: PortProtocol,
        piece: &Piece,
    ) -> Result<(), TooMany> {
        for (ranges, then) in self.atlas.branches(diagram, PORT)? {
            let traffic = protocol.traffic(set(&ranges));
            for (ranges, then) in self.atlas.branches(then, SOURCE_PORT)? {
                let source_ports = SourcePorts { ports: set(&ranges), portless: false };
                let traffic = traffic.clone();
                self.rest(then, &Piece { traffic, source_ports, ..piece.clone() })?;
            }
        }
        Ok(())
    }

    fn types(&mut self, diagram: Diagram, family: Family, piece: &Piece) -> Result<(), TooMany> {
        for (ranges, then) in self.atlas.branches(diagram, ICMP_TYPE)? {
            let traffic = match family {
                Family::V4 => TrafficSet::icmp(set(&ranges), RangeSet::empty()),
                Family::V6 => TrafficSet::icmp(RangeSet::empty(), set(&ranges)),
            };
            let source_ports = SourcePorts { ports: RangeSet::empty(), portless: true };
            self.rest(then, &Piece { traffic, source_ports, ..piece.clone() })?;
        }
        Ok(())
    }

    fn rest(&mut self, diagram: Diagram, piece: &Piece) -> Result<(), TooMany> {
        let words = &self.atlas.words;
        for (ranges, then) in self.atlas.branches(diagram, IN_INTERFACE)? {
            let in_interfaces = words.interfaces.set(&ranges);
            for (ranges, then) in self.atlas.branches(then, OUT_INTERFACE)? {
                let out_interfaces = words.interfaces.set(&ranges);
                let piece = Piece {
                    in_interfaces: in_interfaces.clone(),
                    out_interfaces: out_interfaces.clone(),
                    ..piece.clone()
                };
                self.relations(then, &piece)?;
            }
        }
        Ok(())
    }

    fn relations(&mut self, diagram: Diagram, piece: &Piece) -> Result<(), TooMany> {
        let set = |ranges: &[(u128, u128)]| {
            RelationSet::of(|it| {
                ranges.iter().any(|range| (range.0..=range.1).contains(&it.number().into()))
            })
        };
        for (ranges, then) in self.atlas.branches(diagram, SOURCE_IS)? {
            let source_is = set(&ranges);
            for (ranges, then) in self.atlas.branches(then, DESTINATION_IS)? {
                let destination_is = set(&ranges);
                let piece = Piece { source_is, destination_is, ..piece.clone() };
                self.owners(then, &piece)?;
            }
        }
        Ok(())
    }

    fn owners(&mut self, diagram: Diagram, piece: &Piece) -> Result<(), TooMany> {
        for (ranges, then) in self.atlas.branches(diagram, PROGRAM)? {
            let programs = self.atlas.words.programs.set(&ranges);
            for (ranges, then) in self.atlas.branches(then, USER)? {
                let users = self.atlas.words.users.set(&ranges);
                let piece = Piece { programs: programs.clone(), users, ..piece.clone() };
                self.asked(then, &piece)?;
            }
        }
        Ok(())
    }

    fn asked(&mut self, diagram: Diagram, piece: &Piece) -> Result<(), TooMany> {
        for (ranges, _) in self.atlas.branches(diagram, ASKED)? {
            let piece = Piece { published: set(&ranges), ..piece.clone() };
            if self.found.len() == self.most {
                return Err(TooMany);
            }
            if !piece.is_empty() {
                self.found.push(piece);
            }
        }
        Ok(())
    }
}

impl super::fields::Names {
    /// The names of some numbers; number 0 stands for all that nobody names.
    fn set(&self, ranges: &[(u128, u128)]) -> NameSet {
        let holds = |number: u128| ranges.iter().any(|it| (it.0..=it.1).contains(&number));
        let named =
            |inside: bool| self.numbered().filter(move |it| holds(it.0) == inside).map(|it| it.1);
        if holds(0) {
            NameSet::AllBut(named(false).map(Into::into).collect())
        } else {
            NameSet::only(named(true))
        }
    }
}
