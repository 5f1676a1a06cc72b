//! Which files a process has open, in the very terms of the programs that tell whose a socket is.

use super::super::{Assembler, Helper, Label, Register, Width};
use super::offsets::Offsets;
use super::table::Identity;
use crate::{Fields, WireError};
use Register::{R0, R1, R2, R3, R6, R7, R8, Stack};
use Width::{Double, Word};

/// Where a record is on the stack, from its end.
pub(super) const RECORD: i16 = -24;

/// An open file of who reads the iterator: its number, and what it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct OpenFile {
    /// The number of the descriptor.
    pub descriptor: u32,
    /// The file that is to be known.
    pub identity: Identity,
}

impl OpenFile {
    /// The bytes of a record.
    pub const LENGTH: usize = 24;

    /// Reads one record.
    ///
    /// # Errors
    /// [`WireError::Truncated`] if there are too few bytes.
    pub fn from_record(record: &[u8]) -> Result<Self, WireError> {
        let mut fields = Fields::new(record, "an open file");
        let identity = Identity::read(&mut fields)?;
        Ok(Self { descriptor: fields.ne32()?, identity })
    }
}

/// For the iterator `bpf_iter_task_file`: hands a [record](OpenFile) of each open file to the
/// process that reads, of its own files only. So a file's identity comes from the very fields that
/// the other programs compare, whatever the file system makes of them for others.
///
/// # Errors
/// [`WireError`] if the kernel keeps a field too far away.
pub fn open_files(offsets: Offsets) -> Result<Vec<u8>, WireError> {
    // `struct bpf_iter__task_file`, and `seq` in `struct bpf_iter_meta`.
    const META: u32 = 0;
    const TASK: u32 = 8;
    const DESCRIPTOR: u32 = 16;
    const FILE: u32 = 24;
    const SEQUENCE: u32 = 0;
    let mut code = Assembler::new();
    let done = code.label();
    code.copy(R6, R1);
    code.load(Double, R7, R6, TASK)?;
    code.if_is(R7, 0, done);
    code.load(Double, R8, R6, FILE)?;
    code.if_is(R8, 0, done);
    code.call(Helper::CurrentProcess);
    code.shift_down(R0, 32);
    code.load(Word, R1, R7, offsets.process)?;
    code.if_differ(R0, R1, done);
    code.load(Double, R0, R8, offsets.inode)?;
    code.if_is(R0, 0, done);
    identity_of(&mut code, offsets, done)?;
    code.load(Word, R1, R6, DESCRIPTOR)?;
    code.store(Word, Stack, RECORD + 16, R1);
    code.store_number(Word, Stack, RECORD + 20, 0);
    code.load(Double, R1, R6, META)?;
    code.load(Double, R1, R1, SEQUENCE)?;
    code.copy(R2, Stack);
    code.add(R2, RECORD.into());
    code.set(R3, 24);
    code.call(Helper::Hand);
    code.place(done);
    code.set(R0, 0);
    code.end();
    code.finish()
}

/// Writes the identity of the inode in `R0` to the stack, and spoils `R0` and `R1`.
pub(super) fn identity_of(
    code: &mut Assembler,
    it: Offsets,
    nobody: Label,
) -> Result<(), WireError> {
    code.load(Double, R1, R0, it.number)?;
    code.store(Double, Stack, RECORD, R1);
    code.load(Word, R1, R0, it.generation)?;
    code.store(Word, Stack, RECORD + 12, R1);
    code.load(Double, R0, R0, it.file_system)?;
    code.if_is(R0, 0, nobody);
    code.load(Word, R1, R0, it.device)?;
    code.store(Word, Stack, RECORD + 8, R1);
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::super::table::{Owner, Standing, Table, standing_of};
    use super::{Identity, OpenFile};
    use std::collections::BTreeMap;

    #[test]
    fn tables_and_records_come_back() {
        let identity = |inode| Identity { device: 0xfd00, inode, generation: 77 };
        let standing = Standing { bits: 0x0300_0000, may_mark: true };
        let (high, low) = (Owner::file(identity(u64::MAX - 3)), Owner::file(identity(4)));
        let (both, root) = (Owner { user: Some(0), ..low }, Owner { file: None, user: Some(0) });
        let standings = [high, low, both, root].map(|it| (it, standing));
        let owners = BTreeMap::from(standings);
        let mut table = Table::of(&owners);
        // Who is named with the file comes ahead of all others who run it, users alone at last.
        assert_eq!(table.0.iter().map(|it| it.0).collect::<Vec<_>>(), [both, low, high, root]);
        assert_eq!(Table::owners(&table.to_value()), Ok(owners));
        table.forget(low);
        table.forget(root);
        let left = Table::owners(&table.to_value()).expect("whole");
        assert_eq!(left.keys().copied().collect::<Vec<_>>(), [both, high]);
        assert_eq!(Table::owners(&Table::default().to_value()), Ok(BTreeMap::new()));
        assert!(Table::owners(&table.to_value()[..30]).is_err());

        let bits = |bits| Standing { bits, may_mark: false };
        let owners =
            BTreeMap::from([(both, bits(1)), (low, bits(2)), (root, bits(3)), (high, bits(4))]);
        let of = |inode, user| standing_of(&owners, identity(inode), user).map(|it| it.bits);
        assert_eq!([of(4, 0), of(4, 9), of(5, 0), of(5, 9)], [Some(1), Some(2), Some(3), None]);

        let record = [&identity(5).bytes()[..], &9_u32.to_ne_bytes(), &[0; 4]].concat();
        let file = OpenFile { descriptor: 9, identity: identity(5) };
        assert_eq!(OpenFile::from_record(&record), Ok(file));
        assert!(OpenFile::from_record(&record[..17]).is_err());
    }
}
