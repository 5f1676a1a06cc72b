//! The places that addresses are in.

use std::net::IpAddr;
use tipstaff_core::policy::Policy;
use tipstaff_core::space::AddressSet;

/// The places of a policy, the smallest first.
pub(crate) struct Places<'p>(Vec<(u128, &'p str, &'p AddressSet)>);

impl<'p> Places<'p> {
    pub(crate) fn of(policy: Option<&'p Policy>) -> Self {
        let places = policy.into_iter().flat_map(|it| &it.places);
        let mut list: Vec<_> =
            places.map(|it| (it.addresses.size(), it.name.as_str(), &it.addresses)).collect();
        list.sort_unstable_by_key(|it| (it.0, it.1));
        Self(list)
    }

    /// The names of those that hold the address.
    pub(crate) fn of_address(&self, address: IpAddr) -> Vec<String> {
        let holding = self.0.iter().filter(|it| it.2.contains(address));
        holding.map(|it| it.1.to_owned()).collect()
    }

    /// The names of those that hold all of the addresses.
    pub(crate) fn around(&self, all: &AddressSet) -> Vec<String> {
        let holding = self.0.iter().filter(|it| all.difference(it.2).is_empty());
        holding.map(|it| it.1.to_owned()).collect()
    }
}
