//! Which files are whose: what the programs know.

use crate::{Fields, WireError};
use std::collections::BTreeMap;

/// Which file a process executes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Identity {
    /// The device (`s_dev`), as the kernel numbers it for itself.
    pub device: u32,
    /// The number of the inode.
    pub inode: u64,
    /// The inode's generation: a number that is used again has another. Zero on file systems that
    /// keep none.
    pub generation: u32,
}

impl Identity {
    /// How many bytes it takes.
    pub(super) const LENGTH: usize = 16;

    pub(super) fn bytes(self) -> [u8; Self::LENGTH] {
        let mut bytes = [0; Self::LENGTH];
        bytes[..8].copy_from_slice(&self.inode.to_ne_bytes());
        bytes[8..12].copy_from_slice(&self.device.to_ne_bytes());
        bytes[12..].copy_from_slice(&self.generation.to_ne_bytes());
        bytes
    }

    pub(super) fn read(fields: &mut Fields<'_>) -> Result<Self, WireError> {
        let inode = [fields.ne32()?, fields.ne32()?].map(u32::to_ne_bytes).concat();
        let inode = u64::from_ne_bytes(inode.try_into().unwrap_or_default());
        Ok(Self { inode, device: fields.ne32()?, generation: fields.ne32()? })
    }
}

/// What a map says of an identity.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Standing {
    /// The bits that sockets of the program get.
    pub bits: u32,
    /// Whether the program may change our bits of marks itself: it is ours.
    pub may_mark: bool,
}

/// What the programs know, in the order of the identities: the one value of a map.
#[derive(Clone, Debug, PartialEq, Eq, Default)]
pub struct Table(pub(super) Vec<(Identity, Option<Standing>)>);

impl Table {
    /// How many bytes an entry takes: an identity, the bits, and whether it may mark.
    pub(super) const ENTRY: usize = 24;

    /// A table of these.
    #[must_use]
    pub fn of(programs: &BTreeMap<Identity, Standing>) -> Self {
        let mut list: Vec<_> =
            programs.iter().map(|(it, standing)| (*it, Some(*standing))).collect();
        list.sort_by_key(|it| it.0.inode);
        Self(list)
    }

    /// Forgets one; the others keep their places.
    pub fn forget(&mut self, identity: Identity) {
        for entry in self.0.iter_mut().filter(|it| it.0 == identity) {
            entry.1 = None;
        }
    }

    /// The value of the map. What is forgotten is zeros, which no file is.
    #[must_use]
    pub fn to_value(&self) -> Vec<u8> {
        let entry = |(identity, standing): &(Identity, Option<Standing>)| {
            let mut bytes = [0; Self::ENTRY];
            if let Some(standing) = standing {
                bytes[..16].copy_from_slice(&identity.bytes());
                bytes[16..20].copy_from_slice(&standing.bits.to_ne_bytes());
                bytes[20..].copy_from_slice(&u32::from(standing.may_mark).to_ne_bytes());
            }
            bytes
        };
        // A map's value has one byte at least.
        let entries: Vec<u8> = self.0.iter().flat_map(entry).collect();
        if entries.is_empty() { vec![0; Self::ENTRY] } else { entries }
    }

    /// Reads what [`Table::to_value`] writes.
    ///
    /// # Errors
    /// [`WireError::Truncated`] if an entry is cut short.
    pub fn programs(value: &[u8]) -> Result<BTreeMap<Identity, Standing>, WireError> {
        let mut programs = BTreeMap::new();
        for entry in value.chunks(Self::ENTRY) {
            let mut fields = Fields::new(entry, "an entry of the programs");
            let identity = Identity::read(&mut fields)?;
            let standing = Standing { bits: fields.ne32()?, may_mark: fields.ne32()? != 0 };
            if identity.inode != 0 {
                programs.insert(identity, standing);
            }
        }
        Ok(programs)
    }
}
