//! What rules load into registers of what is known of a packet.

use super::registers::{Known, Registers};
use super::step::{Run, Step, UNICAST};
use super::traveller::Traveller;
use std::net::IpAddr;
use tipstaff_wire::nf_tables::{Expression, MetaKey, STATE_BITS, ct, fib};

/// `IP_CT_NEW` among the bits of a connection's state.
const NEW: u32 = STATE_BITS[3];
/// `NFT_META_PROTOCOL`: the EtherType; `NFT_META_PKTTYPE`: to this host, a byte.
const ETHER_TYPE: u32 = 1;
const PACKET_TYPE: u32 = 17;

impl Run<'_> {
    /// Does what an expression does that puts something into a register, or onto the packet; `None` if it is another one.
    pub(super) fn load(
        &mut self,
        packet: &Traveller,
        registers: &mut Registers,
        expression: &Expression,
    ) -> Option<Step> {
        use Expression as E;
        match expression {
            E::Meta { register, key } => self.meta(packet, registers, *register, *key),
            E::MetaSet { key: MetaKey::Mark, source } => {
                self.mark = registers.get(*source, 4).try_into().unwrap_or([None; 4]);
            }
            E::Load { register, data } => registers.set_known(*register, data),
            E::Payload { register, base, offset, length } => {
                registers.set(*register, &packet.bytes(*base, *offset as usize, *length as usize));
            }
            E::Fib { register, flags } => {
                let source = *flags == fib::SOURCE;
                let of = if source { packet.source } else { packet.destination };
                match self.is_own(of) {
                    true => registers.set_known(*register, &fib::LOCAL.to_ne_bytes()),
                    // Whether there is a way to whoever sends, and of what kind, routes decide.
                    false if source => registers.set(*register, &[None; 4]),
                    false => registers.set_known(*register, &UNICAST.to_ne_bytes()),
                }
            }
            E::Ct { register, key } => match *key {
                _ if self.untracked != Some(false) || self.before_tracking != Some(false) => {
                    return Some(Step::Perhaps("connection tracking may not know of it".into()));
                }
                ct::STATE => registers.set_known(*register, &NEW.to_ne_bytes()),
                _ => registers.set(*register, &[None; 16]),
            },
            E::CtEnds { register, key, direction: 0 } => {
                match packet.began_with(*key) {
                    Some(bytes) => registers.set_known(*register, &bytes),
                    None => registers.set(*register, &[None; 16]),
                };
            }
            E::Bitwise { source, destination, length, mask, xor } => {
                let bytes: Vec<Known> = (registers.get(*source, *length as usize).into_iter())
                    .zip(mask.iter().zip(xor))
                    .map(|(byte, (mask, xor))| match (byte, mask) {
                        (_, 0) => Some(*xor),
                        (byte, mask) => byte.map(|it| (it & mask) ^ xor),
                    })
                    .collect();
                registers.set(*destination, &bytes);
            }
            _ => return None,
        }
        Some(Step::On)
    }

    pub(super) fn is_own(&self, address: IpAddr) -> bool {
        let mut all = self.links.iter().flat_map(|it| &it.addresses);
        address.is_loopback() || all.any(|it| it.0 == address)
    }

    /// The address of the interface that a packet comes by which redirected ones go to: the first one
    /// (nf_nat_redirect in net/netfilter). Of several of IPv6 which that is depends on the kernel.
    pub(super) fn own_at(&self, packet: &Traveller) -> Option<IpAddr> {
        let link = self.links.iter().find(|it| Some(&it.name) == packet.in_interface.as_ref())?;
        let mut fitting = link.addresses.iter().map(|it| it.0).filter(|it| match it {
            IpAddr::V4(_) => packet.is_v4(),
            IpAddr::V6(it) => !packet.is_v4() && !it.is_unicast_link_local(),
        });
        let first = fitting.next()?;
        (packet.is_v4() || fitting.next().is_none()).then_some(first)
    }

    fn meta(&self, packet: &Traveller, registers: &mut Registers, register: u32, key: MetaKey) {
        match key {
            MetaKey::Protocol => registers.set_known(register, &[packet.protocol]),
            MetaKey::Family => {
                registers.set_known(register, &[if packet.is_v4() { 2 } else { 10 }]);
            }
            MetaKey::Mark => registers.set(register, &self.mark),
            MetaKey::InInterfaceName => match &packet.in_interface {
                Some(name) => {
                    let mut bytes = [0; 16];
                    bytes.iter_mut().zip(name.bytes()).for_each(|(place, byte)| *place = byte);
                    registers.set_known(register, &bytes);
                }
                None => registers.set(register, &[None; 16]),
            },
            MetaKey::Unknown(ETHER_TYPE) => {
                let kind: u16 = if packet.is_v4() { 0x0800 } else { 0x86dd };
                registers.set_known(register, &kind.to_be_bytes());
            }
            MetaKey::Unknown(PACKET_TYPE) => registers.set_known(register, &[0]),
            _ => registers.set(register, &[None; 16]),
        }
    }
}
