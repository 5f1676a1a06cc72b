//! Lookups as they are written down: addresses as networks, so that people can read them and each can be given
//! another name.

use super::model::{Entry, Key, KeyValue, Lookup, Then};
use crate::space::{AddressSet, Family};
use serde::de::Error;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// A lookup as it is written down.
#[derive(Serialize, Deserialize)]
struct LookupForm {
    key: Key,
    entries: Vec<EntryForm>,
}

/// An entry as it is written down. Addresses that do not lie side by side make several entries.
#[derive(Serialize, Deserialize)]
struct EntryForm {
    /// The values of a field with addresses, as networks.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    addresses: Option<AddressSet>,
    /// The first and the last value of a field without them, or beside them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    numbers: Option<(u32, u32)>,
    then: Then,
}

impl Serialize for Lookup {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        LookupForm::from(self.clone()).serialize(to)
    }
}

impl<'de> Deserialize<'de> for Lookup {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        LookupForm::deserialize(from)?.try_into().map_err(D::Error::custom)
    }
}

impl Key {
    /// The IP version of its addresses, and whether something stands beside them.
    fn parts(self) -> (Option<Family>, bool) {
        match self {
            Self::Source(family) | Self::Destination(family) => (Some(family), false),
            Self::SourceService(family) | Self::DestinationService(family) => (Some(family), true),
            Self::DestinationPort | Self::IcmpType => (None, true),
        }
    }
}

impl From<Lookup> for LookupForm {
    fn from(lookup: Lookup) -> Self {
        let (family, numbered) = lookup.key.parts();
        let entry = |Entry { first, last, then }: Entry| {
            // Values come from fields of these widths.
            let narrow = |value: u128| u32::try_from(value).unwrap_or(u32::MAX);
            let addresses = family.map(|family| match family {
                Family::V4 => AddressSet::from_v4([(narrow(first.0), narrow(last.0))]),
                Family::V6 => AddressSet::from_v6([(first.0, last.0)]),
            });
            let numbers = match family {
                Some(_) => (first.1, last.1),
                None => (narrow(first.0), narrow(last.0)),
            };
            EntryForm { addresses, numbers: numbered.then_some(numbers), then }
        };
        Self { key: lookup.key, entries: lookup.entries.into_iter().map(entry).collect() }
    }
}

impl TryFrom<LookupForm> for Lookup {
    type Error = String;

    fn try_from(form: LookupForm) -> Result<Self, String> {
        let key = form.key;
        let (family, numbered) = key.parts();
        let mut entries = Vec::new();
        for EntryForm { addresses, numbers, then } in form.entries {
            if addresses.is_some() != family.is_some() || numbers.is_some() != numbered {
                return Err("an entry does not fit the key of its lookup".into());
            }
            let (low, high) = numbers.unwrap_or_default();
            let mut add = |first: KeyValue, last: KeyValue| {
                entries.push(Entry { first, last, then: then.clone() });
            };
            match (addresses, family) {
                (Some(set), Some(Family::V4)) if set.v6.is_empty() => set
                    .v4
                    .ranges()
                    .iter()
                    .for_each(|it| add((it.0.into(), low), (it.1.into(), high))),
                (Some(set), Some(Family::V6)) if set.v4.is_empty() => {
                    set.v6.ranges().iter().for_each(|it| add((it.0, low), (it.1, high)));
                }
                (None, _) => add((low.into(), 0), (high.into(), 0)),
                _ => return Err("an entry has addresses of the other IP version".into()),
            }
        }
        // As they were, unless other addresses have come into their place.
        if !entries.is_sorted_by_key(|it| it.first) {
            entries.sort_by_key(|it| it.first);
        }
        Ok(Self { key, entries })
    }
}
