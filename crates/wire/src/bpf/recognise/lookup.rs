//! Where the programs look up whose a socket is.

use super::super::{Assembler, Helper, Label, Register, Width};
use super::sockets::Recogniser;
use super::table::Table;
use crate::WireError;
use Register::{R0, R1, R2, R3, R4, R5, R9};
use Width::{Double, Word};
use std::ops::Range;

/// Where an entry of the table has the user's number and one.
const ENTRY_USER: u32 = 24;

impl Recogniser {
    /// `R0`: where the running program's standing is; zero if nobody named it or its user. `R9`: the task.
    ///
    /// The place in the table is found by comparing the inode's number as in a binary search, written
    /// out; whether it is the file is for the table to say. A lookup in a hash takes about as long as
    /// all the rest.
    pub(super) fn standing(&self, code: &mut Assembler) -> Result<(), WireError> {
        let it = self.offsets;
        let (nobody, found, done) = (code.label(), code.label(), code.label());
        let stranger = code.label();
        code.call(Helper::CurrentTask);
        code.copy(R9, R0);
        if self.table.names_users() {
            code.load(Double, R5, R9, it.credentials)?;
            code.if_is(R5, 0, nobody);
            code.load(Word, R5, R5, it.user)?;
            // As it is in the table, where zero is for everybody.
            code.add(R5, 1);
        }
        for pointer in [it.memory, it.file, it.inode] {
            code.load(Double, R0, R0, pointer)?;
            code.if_is(R0, 0, stranger);
        }
        code.load(Double, R1, R0, it.number)?;
        self.search(code, &self.table.inodes(), 0, (found, stranger))?;
        code.place(stranger);
        self.search_users(code, self.table.inodes().len()..self.table.0.len(), (found, nobody))?;
        code.place(found);
        // Behind the identity.
        code.add(R0, 16);
        code.go(done);
        code.place(nobody);
        // The kernel's checker does not see that a pointer compared with nothing is nothing.
        code.set(R0, 0);
        code.place(done);
        Ok(())
    }

    /// Looks for the inode at `R0`, whose number is in `R1`, among the entries with these numbers,
    /// of which the first is at `place` of the table.
    fn search(
        &self,
        code: &mut Assembler,
        numbers: &[u64],
        place: usize,
        (found, nobody): (Label, Label),
    ) -> Result<(), WireError> {
        let (Some(first), Some(last)) = (numbers.first(), numbers.last()) else {
            code.go(nobody);
            return Ok(());
        };
        if first != last {
            // Entries of the same number stay together.
            let middle = numbers[numbers.len() / 2];
            let at = numbers.partition_point(|it| *it < middle);
            let at = if at == 0 { numbers.partition_point(|it| *it <= middle) } else { at };
            let above = code.label();
            code.set_wide(R4, numbers[at - 1]);
            code.if_above(R1, R4, above);
            self.search(code, &numbers[..at], place, (found, nobody))?;
            code.place(above);
            return self.search(code, &numbers[at..], place + at, (found, nobody));
        }
        // One comparison spares most processes the rest.
        code.set_wide(R4, *first);
        code.if_differ(R1, R4, nobody);
        let it = self.offsets;
        code.load(Word, R2, R0, it.generation)?;
        code.load(Double, R3, R0, it.file_system)?;
        code.if_is(R3, 0, nobody);
        code.load(Word, R3, R3, it.device)?;
        for entry in 0..numbers.len() {
            let other = code.label();
            self.entry(code, place + entry)?;
            if self.table.0[place + entry].0.user.is_some() {
                code.load(Word, R4, R0, ENTRY_USER)?;
                code.if_differ(R4, R5, other);
            }
            for (width, offset, mine) in [(Double, 0, R1), (Word, 8, R3), (Word, 12, R2)] {
                code.load(width, R4, R0, offset)?;
                code.if_differ(R4, mine, other);
            }
            code.go(found);
            code.place(other);
        }
        code.go(nobody);
        Ok(())
    }

    /// Looks for the user in `R5` among these entries, which are of users alone, in the order of their
    /// numbers: every process of the machine comes by here.
    fn search_users(
        &self,
        code: &mut Assembler,
        entries: Range<usize>,
        (found, nobody): (Label, Label),
    ) -> Result<(), WireError> {
        if entries.len() > 1 {
            let middle = entries.start + entries.len() / 2;
            let below = self.table.0[middle - 1].0.user.map_or(0, |it| u64::from(it) + 1);
            let above = code.label();
            code.set_wide(R4, below);
            code.if_above(R5, R4, above);
            self.search_users(code, entries.start..middle, (found, nobody))?;
            code.place(above);
            return self.search_users(code, middle..entries.end, (found, nobody));
        }
        if let Some(entry) = entries.into_iter().next() {
            self.entry(code, entry)?;
            code.load(Word, R4, R0, ENTRY_USER)?;
            code.if_same(R4, R5, found);
        }
        code.go(nobody);
        Ok(())
    }

    /// `R0`: an entry of the table.
    fn entry(&self, code: &mut Assembler, number: usize) -> Result<(), WireError> {
        let offset = u32::try_from(number * Table::ENTRY);
        let offset = offset.map_err(|_| WireError::Missing { what: "room for programs" })?;
        code.set_value(R0, self.programs, offset);
        Ok(())
    }
}
