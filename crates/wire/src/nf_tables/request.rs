//! Requests: dumps, and the one batch that changes things.

use super::{Chain, Copied, Element, FAMILY_INET, Rule, Set, Table, message_kind, write_header};
use crate::netlink::{self, ACK, APPEND, CREATE, DUMP, REQUEST};
use crate::{Attributes, Fields, WireError, Writer};

const BATCH_BEGIN: u16 = 0x10;
const BATCH_END: u16 = 0x11;
/// `NFNL_BATCH_GENID`.
const BATCH_GENERATION: u16 = 1;
/// `NFTA_GEN_ID`.
const GENERATION: u16 = 1;

/// The size up to which elements are put into one message: attribute lengths have 16 bits.
const ELEMENT_BYTES: usize = 32_768;

/// A dump request of the given kind; `filter` writes attributes that narrow it.
///
/// # Errors
/// [`WireError`] if a name is too long.
pub fn dump(
    kind: u16,
    family: u8,
    sequence: u32,
    filter: impl FnOnce(&mut Writer),
) -> Result<Vec<u8>, WireError> {
    let mut out = Writer::new();
    netlink::write(&mut out, kind, REQUEST | DUMP, sequence, |out| {
        write_header(out, family, 0);
        filter(out);
    });
    out.finish()
}

/// A question for the generation of the kernel's rules: a number that every change of any of them
/// raises.
///
/// # Errors
/// [`WireError`] never, in fact: nothing in it varies in length.
pub fn ask_generation(sequence: u32) -> Result<Vec<u8>, WireError> {
    let mut out = Writer::new();
    netlink::write(&mut out, message_kind::GET_GENERATION, REQUEST, sequence, |out| {
        write_header(out, 0, 0);
    });
    out.finish()
}

/// Reads the body of the answer.
///
/// # Errors
/// [`WireError`] if it is malformed.
pub fn decode_generation(body: &[u8]) -> Result<u32, WireError> {
    let mut fields = Fields::new(body, "struct nfgenmsg");
    fields.take(4)?;
    for attribute in Attributes::new(fields.rest(), "NFT_MSG_NEWGEN") {
        let attribute = attribute?;
        if attribute.kind == GENERATION {
            return attribute.be32("NFTA_GEN_ID");
        }
    }
    Err(WireError::Missing { what: "NFTA_GEN_ID" })
}

/// A batch: the kernel applies all of it or nothing.
#[derive(Debug)]
pub struct Batch {
    out: Writer,
    first: u32,
    sequence: u32,
    elements: usize,
}

/// A batch to which nothing is added any more.
#[derive(Clone, Debug)]
pub struct BatchOutput {
    /// The bytes to send at once.
    pub bytes: Vec<u8>,
    /// How many elements are put into sets.
    pub elements: usize,
    /// The number of the opening message.
    pub first: u32,
    /// The number of the closing message. Kernels since 6.10 acknowledge it when all went well;
    /// older ones say nothing.
    pub last: u32,
}

impl Batch {
    /// Begins a batch whose messages are numbered from `sequence` on.
    #[must_use]
    pub fn begin(sequence: u32) -> Self {
        Self::begin_at(sequence, None)
    }

    /// Begins a batch that the kernel refuses (`ERESTART`) if its rules are of another generation
    /// by then: if anybody has changed any of them.
    #[must_use]
    pub fn begin_at(sequence: u32, generation: Option<u32>) -> Self {
        let mut out = Writer::new();
        netlink::write(&mut out, BATCH_BEGIN, REQUEST, sequence, |out| {
            write_header(out, 0, message_kind::SUBSYSTEM);
            if let Some(generation) = generation {
                out.be32(BATCH_GENERATION, generation);
            }
        });
        Self { out, first: sequence, sequence, elements: 0 }
    }

    fn add(&mut self, kind: u16, flags: u16, body: impl FnOnce(&mut Writer)) -> u32 {
        self.sequence += 1;
        netlink::write(&mut self.out, kind, REQUEST | flags, self.sequence, |out| {
            write_header(out, FAMILY_INET, 0);
            body(out);
        });
        self.sequence
    }

    /// Makes once more what a dump has told of; gives the number of the message.
    pub fn again(&mut self, copied: &Copied) -> u32 {
        self.sequence += 1;
        let flags = if copied.kind == message_kind::NEW_RULE { CREATE | APPEND } else { CREATE };
        netlink::write(&mut self.out, copied.kind, REQUEST | flags, self.sequence, |out| {
            copied.write(out);
        });
        self.sequence
    }

    /// Makes a table, or finds it there. Like all methods that add, it gives the number of the
    /// message, by which the kernel refers to it in a refusal.
    pub fn new_table(&mut self, table: &Table) -> u32 {
        self.add(message_kind::NEW_TABLE, CREATE, |out| table.write(out))
    }

    /// Deletes a table with all it holds.
    pub fn delete_table(&mut self, name: &str) -> u32 {
        let table = Table { name: name.into(), ..Table::default() };
        self.add(message_kind::DELETE_TABLE, 0, |out| table.write(out))
    }

    /// Has the kernel make a chain.
    pub fn new_chain(&mut self, chain: &Chain) -> u32 {
        self.add(message_kind::NEW_CHAIN, CREATE, |out| chain.write(out))
    }

    /// Has the kernel make a set.
    pub fn new_set(&mut self, set: &Set) -> u32 {
        self.add(message_kind::NEW_SET, CREATE, |out| set.write(out))
    }

    /// Fills a set, in as many messages as it takes; gives the number of the last one.
    pub fn new_elements(&mut self, set: &Set, elements: &[Element]) -> u32 {
        self.elements += elements.len();
        self.elements(message_kind::NEW_ELEMENTS, CREATE, set, elements)
    }

    /// Takes the elements with these keys out of a set, ends of intervals as such; gives the number of the last
    /// message.
    pub fn delete_elements(&mut self, set: &Set, elements: &[Element]) -> u32 {
        let key = |it: &Element| Element {
            ends_interval: it.ends_interval,
            ..Element::key(it.key.clone())
        };
        let keys: Vec<Element> = elements.iter().map(key).collect();
        self.elements(message_kind::DELETE_ELEMENTS, 0, set, &keys)
    }

    fn elements(&mut self, kind: u16, flags: u16, set: &Set, elements: &[Element]) -> u32 {
        let mut rest = elements;
        while !rest.is_empty() {
            let mut size = 0;
            let fits = |it: &&Element| {
                size += it.size();
                size <= ELEMENT_BYTES
            };
            let (some, behind) = rest.split_at(rest.iter().take_while(fits).count().max(1));
            self.add(kind, flags, |out| set.write_elements(some, out));
            rest = behind;
        }
        self.sequence
    }

    /// Takes all elements out of a set.
    pub fn empty_set(&mut self, set: &Set) -> u32 {
        self.add(message_kind::DELETE_ELEMENTS, 0, |out| set.write_request(out))
    }

    /// Deletes a set with all it holds; the kernel refuses while rules look into it.
    pub fn delete_set(&mut self, set: &Set) -> u32 {
        self.add(message_kind::DELETE_SET, 0, |out| set.write_name(out))
    }

    /// Deletes a chain; the kernel refuses while anything leads there.
    pub fn delete_chain(&mut self, chain: &Chain) -> u32 {
        self.add(message_kind::DELETE_CHAIN, 0, |out| chain.write_name(out))
    }

    /// Deletes the rule of that handle; without one, all rules of the chain.
    pub fn delete_rule(&mut self, table: &str, chain: &str, handle: Option<u64>) -> u32 {
        let rule = Rule { table: table.into(), chain: chain.into(), handle, ..Rule::default() };
        self.add(message_kind::DELETE_RULE, 0, |out| rule.write_place(out))
    }

    /// Deletes all rules of all chains of a table; the chains stay.
    pub fn delete_rules(&mut self, table: &str) -> u32 {
        let of = Rule { table: table.into(), ..Rule::default() };
        self.add(message_kind::DELETE_RULE, 0, |out| of.write_table(out))
    }

    /// Adds a rule before the one of that handle.
    pub fn insert_rule(&mut self, rule: &Rule, before: u64) -> u32 {
        self.add(message_kind::NEW_RULE, CREATE, |out| {
            rule.write(out);
            rule.write_position(before, out);
        })
    }

    /// Adds a rule at the end of its chain.
    pub fn new_rule(&mut self, rule: &Rule) -> u32 {
        self.add(message_kind::NEW_RULE, CREATE | APPEND, |out| {
            rule.write(out);
        })
    }

    /// Ends the batch.
    ///
    /// # Errors
    /// [`WireError::TooLong`] if a part did not fit its length field.
    pub fn finish(mut self) -> Result<BatchOutput, WireError> {
        let last = self.sequence + 1;
        netlink::write(&mut self.out, BATCH_END, REQUEST | ACK, last, |out| {
            write_header(out, 0, message_kind::SUBSYSTEM);
        });
        Ok(BatchOutput {
            bytes: self.out.finish()?,
            elements: self.elements,
            first: self.first,
            last,
        })
    }
}
