//! Whose view is asked for: the columns of the report.

use crate::Failure;
use tipstaff_core::policy::{ANYWHERE, Policy, Source, read_addresses};
use tipstaff_core::rehearsal::sendable;
use tipstaff_core::space::{AddressSet, nested_words};

/// Senders under one name.
#[derive(Clone, Debug)]
pub(crate) struct Column {
    /// A place, or an address as typed.
    pub name: String,
    /// The addresses that belong to the place.
    pub senders: AddressSet,
}

impl Column {
    /// Some of its senders as few networks. Those of `anywhere` are told from its others only: who is at a
    /// place, or can send nothing, does not matter.
    pub(crate) fn words(&self, some: &AddressSet) -> String {
        let all = AddressSet::full();
        let whole = if self.name == ANYWHERE { &self.senders } else { &all };
        nested_words(&some.nested(whole))
    }
}

/// The columns asked for; without a wish, every place of the policy and `anywhere`.
///
/// # Errors
/// [`Failure`] if a wish is neither a place nor an address.
pub(crate) fn columns(policy: &Policy, wishes: &[String]) -> Result<Vec<Column>, Failure> {
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
    let senders = sendable().difference(&named).difference(&hosts);
    Column { name: ANYWHERE.into(), senders }
}
