//! Expressions that the table of expressions does not have: those of the older form, and a few by their names.

use super::older::{self, Part};
use super::registers::Registers;
use super::step::{End, Run, Step, UNICAST, goes_on, may_end, not_followed, of_its_own, several};
use super::traveller::Traveller;
use tipstaff_wire::nf_tables::fib;

impl Run<'_> {
    /// Does what such an expression does.
    pub(super) fn other(
        &mut self,
        packet: &Traveller,
        registers: &mut Registers,
        name: &str,
        data: &[u8],
    ) -> Step {
        match name {
            "notrack" => match self.before_tracking {
                Some(true) => self.untracked = Some(true),
                // What is tracked stays so.
                Some(false) => {}
                None => self.untracked = None,
            },
            // Where it comes from is translated behind all that decides; the others do nothing to it.
            "masq" | "dup" | "last" => {}
            _ => match older::part(name, data, packet.is_v4()) {
                Some(part) => return self.older(packet, &part),
                None => return not_followed(registers, name, may_end(name)),
            },
        }
        Step::On
    }

    fn older(&mut self, packet: &Traveller, part: &Part) -> Step {
        let port_of = |ports: Option<(u16, u16)>| match (ports, packet.ports) {
            (None, _) => Ok(None),
            (Some((first, last)), _) if first == last => Ok(Some(first)),
            (Some((first, last)), Some((_, own))) if (first..=last).contains(&own) => Ok(None),
            _ => Err(several()),
        };
        match *part {
            Part::Nothing => Step::On,
            Part::GoesTo { kinds, inverted } => {
                let kind = if self.is_own(packet.destination) { fib::LOCAL } else { UNICAST };
                goes_on((kinds >> kind & 1 != 0) != inverted)
            }
            Part::Port { first, last, inverted } => {
                let Some((_, port)) = packet.ports else { return Step::Off };
                goes_on((first..=last).contains(&port) != inverted)
            }
            Part::Mark { mask, mark } => {
                let known: Option<Vec<u8>> = self.mark.iter().copied().collect();
                let old = known.and_then(|it| Some(u32::from_ne_bytes(it.try_into().ok()?)));
                let new = if mask == 0 { Some(mark) } else { old.map(|it| (it & mask) ^ mark) };
                self.mark = new.map_or([None; 4], |it| it.to_ne_bytes().map(Some));
                Step::On
            }
            Part::Leads { addresses, ports } => match (addresses, port_of(ports)) {
                (Some((first, last)), _) if first != last => several(),
                (_, Err(doubt)) => doubt,
                (addresses, Ok(port)) => {
                    Step::Ends(End::Translated(addresses.map(|it| it.0), port))
                }
            },
            Part::Here { ports } => match (self.own_at(packet), port_of(ports)) {
                (_, Err(doubt)) => doubt,
                (None, _) => of_its_own(),
                (own, Ok(port)) => Step::Ends(End::Translated(own, port)),
            },
        }
    }
}
