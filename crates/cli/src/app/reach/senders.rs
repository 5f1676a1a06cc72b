//! Whose view is asked for: the columns of the report.

use crate::app::Failure;
use tipstaff_core::policy::{ANYWHERE, Policy, Source, read_addresses};
use tipstaff_core::space::AddressSet;

/// Senders under one name.
#[derive(Clone, Debug)]
pub struct Column {
    /// A place, or an address as typed.
    pub name: String,
    /// The senders.
    pub senders: AddressSet,
}

/// The columns asked for; without a wish, every place of the policy and `anywhere`.
///
/// # Errors
/// [`Failure`] if a wish is neither a place nor an address.
pub fn columns(policy: &Policy, wishes: &[String]) -> Result<Vec<Column>, Failure> {
    if wishes.is_empty() {
        let mut columns: Vec<Column> = policy
            .places
            .iter()
            .map(|place| Column { name: place.name.clone(), senders: place.addresses.clone() })
            .collect();
        columns.push(anywhere(policy));
        return Ok(columns);
    }
    wishes
        .iter()
        .map(|wish| {
            if wish == ANYWHERE {
                return Ok(anywhere(policy));
            }
            let source = Source::new("--from", wish);
            match read_addresses(policy, &source) {
                Ok(senders) => Ok(Column { name: wish.clone(), senders }),
                Err(problems) => Err(Failure::Input { sources: vec![source], problems }),
            }
        })
        .collect()
}

/// Everybody who is at no named place: what a place says is told in its own column. Addresses
/// that no honest packet from outside carries are left out.
fn anywhere(policy: &Policy) -> Column {
    let named: AddressSet = policy.places.iter().map(|place| place.addresses.clone()).collect();
    let hosts: AddressSet = policy
        .hosts
        .iter()
        .flat_map(|it| &it.addresses)
        .map(|&it| AddressSet::single(it))
        .collect();
    let senders = unicast().difference(&named).difference(&hosts);
    Column { name: ANYWHERE.into(), senders }
}

/// The addresses that a packet from outside can come from: IPv4 from 1.0.0.0 up to multicast,
/// without loopback (RFC 1122 section 3.2.1.3), and global and local IPv6 unicast (RFC 4291
/// section 2.4).
fn unicast() -> AddressSet {
    let v4 = |first: [u8; 4], last: [u8; 4]| (u32::from_be_bytes(first), u32::from_be_bytes(last));
    let v4 = AddressSet::from_v4([
        v4([1, 0, 0, 0], [126, 255, 255, 255]),
        v4([128, 0, 0, 0], [223, 255, 255, 255]),
    ]);
    let v6 = AddressSet::from_v6([
        (0x2000 << 112, (0x4000 << 112) - 1),
        (0xfc00 << 112, (0xfec0 << 112) - 1),
    ]);
    v4.union(&v6)
}
