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

/// Whose sockets something is said of: of a program, of a user, or of a program that a user runs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Owner {
    /// The file; `None` for every program of which nothing is said.
    pub file: Option<Identity>,
    /// The user; `None` for every user of whom nothing is said for this file.
    pub user: Option<u32>,
}

impl Owner {
    /// Whoever runs a file.
    #[must_use]
    pub fn file(file: Identity) -> Self {
        Self { file: Some(file), user: None }
    }

    /// The owners that a process can have, from the nearest to the farthest.
    #[must_use]
    pub fn of(file: Identity, user: u32) -> [Self; 3] {
        let (file, user) = (Some(file), Some(user));
        [Self { file, user }, Self { file, user: None }, Self { file: None, user }]
    }
}

/// What a map says of an owner.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Standing {
    /// The bits that sockets of the owner get.
    pub bits: u32,
    /// Whether the program may change our bits of marks itself: it is ours.
    pub may_mark: bool,
}

/// What is said of a process that runs a file as a user.
#[must_use]
pub fn standing_of(
    owners: &BTreeMap<Owner, Standing>,
    file: Identity,
    user: u32,
) -> Option<Standing> {
    Owner::of(file, user).iter().find_map(|it| owners.get(it)).copied()
}

/// What the programs know, in the order in which they look for it: the one value of a map. Files come
/// first, in the order of their inodes' numbers, each with its users ahead of everybody else; users
/// alone are last.
#[derive(Clone, Debug, PartialEq, Eq, Default)]
pub struct Table(pub(super) Vec<(Owner, Option<Standing>)>);

impl Table {
    /// How many bytes an entry takes: an identity, the bits, whether it may mark, and the user's number
    /// and one; zero for everybody.
    pub(super) const ENTRY: usize = 32;

    /// A table of these.
    #[must_use]
    pub fn of(owners: &BTreeMap<Owner, Standing>) -> Self {
        let mut list: Vec<_> = owners.iter().map(|(it, standing)| (*it, Some(*standing))).collect();
        let place = |it: &Owner| {
            (it.file.is_none(), it.file.map(|it| it.inode), it.user.is_none(), it.user)
        };
        list.sort_by_key(|it| place(&it.0));
        Self(list)
    }

    /// The numbers of the files' inodes, in order.
    pub(super) fn inodes(&self) -> Vec<u64> {
        self.0.iter().filter_map(|it| Some(it.0.file?.inode)).collect()
    }

    /// Whether anything is said of certain users.
    pub(super) fn names_users(&self) -> bool {
        self.0.iter().any(|it| it.0.user.is_some())
    }

    /// Forgets one; the others keep their places.
    pub fn forget(&mut self, owner: Owner) {
        for entry in self.0.iter_mut().filter(|it| it.0 == owner) {
            entry.1 = None;
        }
    }

    /// The value of the map. What is forgotten is zeros, which no file and no user is.
    #[must_use]
    pub fn to_value(&self) -> Vec<u8> {
        let entry = |(owner, standing): &(Owner, Option<Standing>)| {
            let mut bytes = [0; Self::ENTRY];
            if let Some(standing) = standing {
                if let Some(file) = owner.file {
                    bytes[..16].copy_from_slice(&file.bytes());
                }
                bytes[16..20].copy_from_slice(&standing.bits.to_ne_bytes());
                bytes[20..24].copy_from_slice(&u32::from(standing.may_mark).to_ne_bytes());
                let user = owner.user.map_or(0, |it| it.saturating_add(1));
                bytes[24..28].copy_from_slice(&user.to_ne_bytes());
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
    pub fn owners(value: &[u8]) -> Result<BTreeMap<Owner, Standing>, WireError> {
        let mut owners = BTreeMap::new();
        for entry in value.chunks(Self::ENTRY) {
            let mut fields = Fields::new(entry, "an entry of the programs");
            let identity = Identity::read(&mut fields)?;
            let standing = Standing { bits: fields.ne32()?, may_mark: fields.ne32()? != 0 };
            let file = Some(identity).filter(|it| it.inode != 0);
            let user = fields.ne32()?.checked_sub(1);
            // What fills it up.
            fields.ne32()?;
            if file.is_some() || user.is_some() {
                owners.insert(Owner { file, user }, standing);
            }
        }
        Ok(owners)
    }
}
