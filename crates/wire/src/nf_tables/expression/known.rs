//! The expressions that are known here.

use super::super::names::{Base, Compare, MetaKey, RejectKind, SocketKey};
use super::super::verdict::Verdict;
use super::limit::Limit;

/// One step of a rule.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Expression {
    /// Loads a fact about the packet.
    Meta {
        /// Which fact about the packet.
        key: MetaKey,
        /// The register that it goes to.
        register: u32,
    },
    /// Loads a fact about the socket that receives or sends the packet; breaks off if there is none.
    Socket {
        /// Which fact about the socket.
        key: SocketKey,
        /// The register that it goes to.
        register: u32,
    },
    /// Leads the packet to a transparent proxy's socket at an address of this machine (`tproxy`);
    /// breaks off if there is none. What remains of an old connection is given up for the listener.
    Tproxy {
        /// The IP version, as the kernel numbers it.
        family: u32,
        /// The register with the address.
        address: u32,
    },
    /// Loads bytes of the packet.
    Payload {
        /// The header from which it counts.
        base: Base,
        /// From which byte of it.
        offset: u32,
        /// How many bytes are loaded.
        length: u32,
        /// The register that they go to.
        register: u32,
    },
    /// Loads what connection tracking says.
    Ct {
        /// Which fact, see [`ct`](super::super::ct).
        key: u32,
        /// The register that it goes to.
        register: u32,
    },
    /// Masks a register: (register and mask) xor xor.
    Bitwise {
        /// The register that is read.
        source: u32,
        /// The register that is written.
        destination: u32,
        /// How many bytes are masked.
        length: u32,
        /// The bits that are kept.
        mask: Vec<u8>,
        /// The bits to turn round.
        xor: Vec<u8>,
    },
    /// Turns a value of eight bytes into network order.
    Byteorder {
        /// The register that is read.
        source: u32,
        /// The register that is written.
        destination: u32,
    },
    /// Goes on if the comparison holds.
    Cmp {
        /// The register that is compared.
        register: u32,
        /// Whether they must be equal, or differ.
        op: Compare,
        /// The bytes that it is compared with.
        data: Vec<u8>,
    },
    /// Goes on if the register lies between two values, both included.
    Range {
        /// The register that is compared.
        register: u32,
        /// Whether it must be inside, or outside.
        op: Compare,
        /// The lower end, which belongs to it.
        from: Vec<u8>,
        /// The upper end, which belongs to it.
        to: Vec<u8>,
    },
    /// Goes on if the register is in a set; in a map of verdicts, gives the verdict found.
    Lookup {
        /// What is looked up.
        register: u32,
        /// The name of the set.
        set: String,
        /// The set's number within the batch that makes it; 0 when read back.
        id: u32,
        /// 1 turns it round.
        flags: u32,
        /// Whether the set is a map and what it holds is the verdict.
        to_verdict: bool,
    },
    /// Counts packets and their bytes.
    Counter {
        /// `NFTA_COUNTER_PACKETS`.
        packets: u64,
        /// `NFTA_COUNTER_BYTES`.
        bytes: u64,
    },
    /// Goes on while a rate is kept.
    Limit(Limit),
    /// Finds or makes the register's element in a set, and goes on while the rate that the
    /// element keeps for itself is kept. Breaks off when the set is full.
    Dynset {
        /// The register with the element's key.
        register: u32,
        /// The name of the set.
        set: String,
        /// The set's number within the batch that makes it; 0 when read back.
        id: u32,
        /// The rate of each element.
        limit: Limit,
    },
    /// Puts Jenkins's hash of a register, below a bound, into a register; with a seed that the kernel
    /// chooses and tells nobody, unless there is another.
    Hash {
        /// The register that is hashed.
        source: u32,
        /// Where the hash goes.
        destination: u32,
        /// How many bytes are hashed.
        length: u32,
        /// Hashes are smaller than this.
        modulus: u32,
        /// The seed that everybody can read, if there is one.
        seed: Option<u32>,
        /// What is added to the hash.
        offset: u32,
    },
    /// Drops the packet and answers.
    Reject {
        /// The kind of answer that is sent.
        kind: RejectKind,
        /// The ICMP code, where there is one.
        code: u8,
    },
    /// Reports the packet to a listening socket.
    Log {
        /// The group of sockets.
        group: u16,
        /// How many bytes of the packet.
        snap_length: u32,
        /// How many packets are gathered into one message.
        threshold: u16,
        /// A text that goes with the packet, up to 127 bytes; empty for none.
        prefix: String,
    },
    /// Gives this verdict to the packet.
    Immediate(Verdict),
    /// An expression that is not known here, kept as it came.
    Other {
        /// The name that the kernel has for it.
        name: String,
        /// Its attributes, as they came.
        data: Vec<u8>,
    },
}
