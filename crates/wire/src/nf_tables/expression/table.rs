//! The expressions, and which attributes each has (linux/netfilter/nf_tables.h): for each its number, its name
//! there, how it stands in the message, and the field that it is here.

use super::super::names::{Base, Compare, MetaKey, RejectKind, SocketKey, registers};
use super::super::verdict::Verdict;
use super::also::Also::{self, Counts, Is, NotThere, Only, There, Zero};
use super::defining::expressions;
use super::forms::{
    Be16, Be16OrZero, Be32, Be32OrZero, Be64, Byte, Data, DataRegister, Form, InBatch,
    OptionalBe32, Text, TextOrNone, ToVerdict,
};
use super::limit::{InExpression, Limit, NAMED};
use super::parts::Parts;
use crate::{WireError, Writer};

/// `NFT_BYTEORDER_HTON`.
const HTON: u32 = 1;
/// `NFT_FIB_RESULT_ADDRTYPE`.
const ADDRESS_TYPE: u32 = 3;
/// `NFT_DYNSET_OP_ADD`: make the element, or find it there.
const ADD: u32 = 0;
/// `NFT_DYNSET_OP_UPDATE`: make the element, or renew its time.
const UPDATE: u32 = 1;
/// `NFT_DYNSET_F_EXPR`: there is an expression, which shows anyway.
const HAS_EXPRESSION: u32 = 2;

expressions! {
    /// Loads a fact about the packet.
    Meta = "meta" {
        /// The register that it goes to.
        1 "NFTA_META_DREG" Be32 => register,
        /// Which fact about the packet.
        2 "NFTA_META_KEY" MetaKey => key,
    } also [There(1), NotThere(3)]; // NFTA_META_SREG
    /// Has the packet carry a value on.
    MetaSet = "meta" {
        /// Which value.
        2 "NFTA_META_KEY" MetaKey => key,
        /// The register that it comes from.
        3 "NFTA_META_SREG" DataRegister => source,
    } also [NotThere(1)];
    /// Puts a value into a register.
    Load = "immediate" {
        /// The register that it goes to.
        1 "NFTA_IMMEDIATE_DREG" DataRegister => register,
        /// The bytes.
        2 "NFTA_IMMEDIATE_DATA" Data => data,
    } also [];
    /// Loads a fact about the socket that receives or sends the packet; breaks off if there is none.
    Socket = "socket" {
        /// Which fact about the socket.
        1 "NFTA_SOCKET_KEY" SocketKey => key,
        /// The register that it goes to.
        2 "NFTA_SOCKET_DREG" Be32 => register,
    } also [NotThere(3)]; // NFTA_SOCKET_LEVEL
    /// Leads the packet to a transparent proxy's socket at an address of this machine (`tproxy`);
    /// breaks off if there is none. What remains of an old connection is given up for the listener.
    Tproxy = "tproxy" {
        /// The IP version, as the kernel numbers it.
        1 "NFTA_TPROXY_FAMILY" Be32 => family,
        /// The register with the address.
        2 "NFTA_TPROXY_REG_ADDR" Be32 => address,
    } also [There(2), NotThere(3)]; // NFTA_TPROXY_REG_PORT
    /// Loads bytes of the packet.
    Payload = "payload" {
        /// The register that they go to.
        1 "NFTA_PAYLOAD_DREG" Be32 => register,
        /// The header from which it counts.
        2 "NFTA_PAYLOAD_BASE" Base => base,
        /// From which byte of it.
        3 "NFTA_PAYLOAD_OFFSET" Be32 => offset,
        /// How many bytes are loaded.
        4 "NFTA_PAYLOAD_LEN" Be32 => length,
    } also [There(1)];
    /// Loads what kind of address one of the packet's is, by the routing table (`RTN_LOCAL` and others in
    /// linux/rtnetlink.h; in the machine's own byte order).
    Fib = "fib" {
        /// The register that it goes to.
        1 "NFTA_FIB_DREG" Be32 => register,
        /// Which address: [`fib::SOURCE`](super::super::fib::SOURCE) or the other, and no more bits.
        3 "NFTA_FIB_FLAGS" Be32 => flags,
    } also [Is(2, ADDRESS_TYPE)];
    /// Loads what connection tracking says.
    Ct = "ct" {
        /// The register that it goes to.
        1 "NFTA_CT_DREG" Be32 => register,
        /// Which fact, see [`ct`](super::super::ct).
        2 "NFTA_CT_KEY" Be32 => key,
    } also [There(1), NotThere(3)]; // NFTA_CT_DIRECTION
    /// Loads who the ends of the packet's connection are, as they were when it began; breaks off if it is
    /// of none. Of an IPv4 address four bytes are loaded, and those behind it are left.
    CtEnds = "ct" {
        /// The register that it goes to.
        1 "NFTA_CT_DREG" Be32 => register,
        /// Which fact, see [`ct`](super::super::ct).
        2 "NFTA_CT_KEY" Be32 => key,
        /// In which direction: 0 as it began (`IP_CT_DIR_ORIGINAL`).
        3 "NFTA_CT_DIRECTION" Byte => direction,
    } also [There(1), NotThere(4)]; // NFTA_CT_SREG
    /// Masks a register: (register and mask) xor xor.
    Bitwise = "bitwise" {
        /// The register that is read.
        1 "NFTA_BITWISE_SREG" Be32 => source,
        /// The register that is written.
        2 "NFTA_BITWISE_DREG" Be32 => destination,
        /// How many bytes are masked.
        3 "NFTA_BITWISE_LEN" Be32 => length,
        /// The bits that are kept.
        4 "NFTA_BITWISE_MASK" Data => mask,
        /// The bits to turn round.
        5 "NFTA_BITWISE_XOR" Data => xor,
    } also [There(4), Only(6, 0)]; // NFTA_BITWISE_OP: NFT_BITWISE_MASK_XOR
    /// Turns a value of eight bytes into network order.
    Byteorder = "byteorder" {
        /// The register that is read.
        1 "NFTA_BYTEORDER_SREG" Be32 => source,
        /// The register that is written.
        2 "NFTA_BYTEORDER_DREG" Be32 => destination,
    } also [Is(3, HTON), Is(4, 8), Is(5, 8)]; // NFTA_BYTEORDER_OP, _LEN, _SIZE: one value of 8 bytes
    /// Goes on if the comparison holds.
    Cmp = "cmp" {
        /// The register that is compared.
        1 "NFTA_CMP_SREG" Be32 => register,
        /// Whether they must be equal, or differ.
        2 "NFTA_CMP_OP" Compare => op,
        /// The bytes that it is compared with.
        3 "NFTA_CMP_DATA" Data => data,
    } also [];
    /// Goes on if the register lies between two values, both included.
    Range = "range" {
        /// The register that is compared.
        1 "NFTA_RANGE_SREG" Be32 => register,
        /// Whether it must be inside, or outside.
        2 "NFTA_RANGE_OP" Compare => op,
        /// The lower end, which belongs to it.
        3 "NFTA_RANGE_FROM_DATA" Data => from,
        /// The upper end, which belongs to it.
        4 "NFTA_RANGE_TO_DATA" Data => to,
    } also [];
    /// Goes on if the register is in a set; in a map of verdicts, gives the verdict found.
    Lookup = "lookup" {
        /// The name of the set.
        1 "NFTA_LOOKUP_SET" Text => set,
        /// What is looked up.
        2 "NFTA_LOOKUP_SREG" Be32 => register,
        /// Whether the set is a map and what it holds is the verdict.
        3 "NFTA_LOOKUP_DREG" ToVerdict => to_verdict,
        /// The set's number within the batch that makes it; 0 when read back.
        4 "NFTA_LOOKUP_SET_ID" InBatch => id,
        /// 1 turns it round.
        5 "NFTA_LOOKUP_FLAGS" Be32OrZero => flags,
    } also [];
    /// Goes on with what the register leads to in a map, if it leads to something.
    Find = "lookup" {
        /// The name of the map.
        1 "NFTA_LOOKUP_SET" Text => set,
        /// What is looked up.
        2 "NFTA_LOOKUP_SREG" Be32 => register,
        /// The register that the map's data goes to.
        3 "NFTA_LOOKUP_DREG" DataRegister => destination,
        /// The map's number within the batch that makes it; 0 when read back.
        4 "NFTA_LOOKUP_SET_ID" InBatch => id,
    } also [Zero(5)]; // NFTA_LOOKUP_FLAGS
    /// Counts packets and their bytes.
    Counter = "counter" {
        /// `NFTA_COUNTER_BYTES`.
        1 "NFTA_COUNTER_BYTES" Be64 => bytes,
        /// `NFTA_COUNTER_PACKETS`.
        2 "NFTA_COUNTER_PACKETS" Be64 => packets,
    } also [];
    /// Finds or makes the register's element in a set, and goes on while the rate that the
    /// element keeps for itself is kept. Breaks off when the set is full.
    Dynset = "dynset" {
        /// The name of the set.
        1 "NFTA_DYNSET_SET_NAME" Text => set,
        /// The set's number within the batch that makes it; 0 when read back.
        2 "NFTA_DYNSET_SET_ID" InBatch => id,
        /// The register with the element's key.
        4 "NFTA_DYNSET_SREG_KEY" Be32 => register,
        /// The rate of each element.
        7 "NFTA_DYNSET_EXPR" InExpression => limit,
        // NFTA_DYNSET_OP; _SREG_DATA; _TIMEOUT: the set's own; _FLAGS; _EXPRESSIONS: more than one.
    } also [Is(3, UPDATE), NotThere(5), Zero(6), Only(9, HAS_EXPRESSION), NotThere(10)];
    /// Finds or makes the register's element in a set, renews its time, and has it count the packet. Breaks
    /// off when the set is full.
    DynsetCounts = "dynset" {
        /// The name of the set.
        1 "NFTA_DYNSET_SET_NAME" Text => set,
        /// The set's number within the batch that makes it; 0 when read back.
        2 "NFTA_DYNSET_SET_ID" InBatch => id,
        /// The register with the element's key.
        4 "NFTA_DYNSET_SREG_KEY" Be32 => register,
    } also [
        Is(3, UPDATE), NotThere(5), Zero(6), Counts(7), Only(9, HAS_EXPRESSION), NotThere(10)
    ];
    /// Finds or makes the register's element in a set. Breaks off when the set is full.
    DynsetAdds = "dynset" {
        /// The name of the set.
        1 "NFTA_DYNSET_SET_NAME" Text => set,
        /// The set's number within the batch that makes it; 0 when read back.
        2 "NFTA_DYNSET_SET_ID" InBatch => id,
        /// The register with the element's key.
        4 "NFTA_DYNSET_SREG_KEY" Be32 => register,
    } also [Is(3, ADD), NotThere(5), Zero(6), NotThere(7), Zero(9), NotThere(10)];
    /// Puts Jenkins's hash of a register, below a bound, into a register; with a seed that the kernel
    /// chooses and tells nobody, unless there is another.
    Hash = "hash" {
        /// The register that is hashed.
        1 "NFTA_HASH_SREG" Be32 => source,
        /// Where the hash goes.
        2 "NFTA_HASH_DREG" Be32 => destination,
        /// How many bytes are hashed.
        3 "NFTA_HASH_LEN" Be32 => length,
        /// Hashes are smaller than this.
        4 "NFTA_HASH_MODULUS" Be32 => modulus,
        /// The seed that everybody can read, if there is one.
        5 "NFTA_HASH_SEED" OptionalBe32 => seed,
        /// What is added to the hash.
        6 "NFTA_HASH_OFFSET" Be32OrZero => offset,
    } also [Only(7, 0)]; // NFTA_HASH_TYPE: NFT_HASH_JENKINS
    /// Translates an address of the connection that the packet begins, its port too; which of both ends, its kind says
    /// (`enum nft_nat_types`: 0 whence it comes, 1 where it goes).
    Nat = "nat" {
        /// Which end.
        1 "NFTA_NAT_TYPE" Be32 => kind,
        /// The IP version, as the kernel numbers it.
        2 "NFTA_NAT_FAMILY" Be32 => family,
        /// The register with the first address that is taken for it; `None`: it stays.
        3 "NFTA_NAT_REG_ADDR_MIN" OptionalBe32 => address,
        /// The register with the last one.
        4 "NFTA_NAT_REG_ADDR_MAX" OptionalBe32 => last_address,
        /// The register with the first port that is taken for it; `None`: it stays.
        5 "NFTA_NAT_REG_PROTO_MIN" OptionalBe32 => port,
        /// The register with the last one.
        6 "NFTA_NAT_REG_PROTO_MAX" OptionalBe32 => last_port,
        /// How one of several is chosen (`NF_NAT_RANGE_*` in linux/netfilter/nf_nat.h).
        7 "NFTA_NAT_FLAGS" Be32OrZero => flags,
    } also [];
    /// Translates where the packet goes to this machine itself.
    Redirect = "redir" {
        /// The register with the first port that is taken for its own; `None`: it stays.
        1 "NFTA_REDIR_REG_PROTO_MIN" OptionalBe32 => port,
        /// The register with the last one.
        2 "NFTA_REDIR_REG_PROTO_MAX" OptionalBe32 => last_port,
        /// As for [`Expression::Nat`].
        3 "NFTA_REDIR_FLAGS" Be32OrZero => flags,
    } also [];
    /// Reports the packet to a listening socket.
    Log = "log" {
        /// The group of sockets.
        1 "NFTA_LOG_GROUP" Be16 => group,
        /// A text that goes with the packet, up to 127 bytes; empty for none.
        2 "NFTA_LOG_PREFIX" TextOrNone => prefix,
        /// How many bytes of the packet.
        3 "NFTA_LOG_SNAPLEN" LogBytes => snap_length,
        /// How many packets are gathered into one message.
        4 "NFTA_LOG_QTHRESHOLD" Be16OrZero => threshold,
    } also [There(1)];
}

/// How many bytes are reported: written also if that is none, which is said by leaving it out.
pub struct LogBytes;

impl Form for LogBytes {
    type Value = u32;

    fn write(out: &mut Writer, kind: u16, value: &u32) {
        out.be32(kind, *value);
    }

    fn read(parts: &Parts<'_>, kind: u16, what: &'static str) -> Result<u32, WireError> {
        Be32OrZero::read(parts, kind, what)
    }
}

/// Writes what is not all fields.
fn write_other(expression: &Expression, out: &mut Writer) {
    match expression {
        Expression::Limit(limit) => limit.write(out),
        Expression::Reject { kind, code } => {
            RejectKind::write(out, 1, kind);
            // A reset has none.
            if *kind != RejectKind::TcpReset {
                out.byte(2, *code);
            }
        }
        Expression::Immediate(verdict) => {
            out.be32(1, registers::VERDICT);
            out.nest(2, |out| verdict.write_data(out));
        }
        Expression::Other { data, .. } => out.raw(data),
        _ => unreachable!("all others are in the table"),
    }
}

fn read_other(name: &str, parts: &Parts<'_>) -> Result<Option<Expression>, WireError> {
    Ok(match name {
        NAMED => Some(Expression::Limit(Limit::read(parts)?)),
        "reject" => Some(Expression::Reject {
            kind: RejectKind::read(parts, 1, "NFTA_REJECT_TYPE")?,
            code: parts.get(2).map_or(Ok(0), |it| it.byte("NFTA_REJECT_ICMP_CODE"))?,
        }),
        "immediate" if Be32::read(parts, 1, "NFTA_IMMEDIATE_DREG")? == registers::VERDICT => {
            let verdict = Verdict::decode_data(parts.need(2, "NFTA_IMMEDIATE_DATA")?)?;
            let verdict = verdict.ok_or(WireError::Missing { what: "NFTA_VERDICT_CODE" })?;
            Some(Expression::Immediate(verdict))
        }
        _ => None,
    })
}
