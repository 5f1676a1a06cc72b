//! The expressions that rules are made of.

use super::names::{Base, Compare, MetaKey, RejectKind, SocketKey, registers};
use super::verdict::Verdict;
use crate::{Attribute, Attributes, WireError, Writer};

const NAME: u16 = 1;
const DATA: u16 = 2;
const DATA_VALUE: u16 = 1;
/// `NFT_DYNSET_OP_UPDATE`: make the element, or renew its time.
const DYNSET_UPDATE: u32 = 1;
/// `NFT_HASH_JENKINS`, which is also what is meant if no kind is named.
const HASH_JENKINS: u32 = 0;
/// `NFT_DYNSET_F_EXPR`: there is an expression, which shows anyway.
const DYNSET_FLAG_EXPRESSION: u32 = 2;
/// `NFT_BYTEORDER_HTON`.
const BYTEORDER_HTON: u32 = 1;
/// The bytes of a value to be turned round.
const WIDE: u32 = 8;
const LIMIT: &str = "limit";

/// A token bucket (`limit`).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Limit {
    /// `NFTA_LIMIT_RATE`: tokens.
    pub rate: u64,
    /// `NFTA_LIMIT_UNIT`: per so many seconds.
    pub unit: u64,
    /// `NFTA_LIMIT_BURST`.
    pub burst: u32,
    /// `NFTA_LIMIT_TYPE`: 0 counts packets.
    pub kind: u32,
    /// `NFTA_LIMIT_FLAGS`: 1 turns it round.
    pub flags: u32,
}

/// One expression.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Expression {
    /// Loads a fact about the packet.
    Meta {
        /// Which fact.
        key: MetaKey,
        /// Where to.
        register: u32,
    },
    /// Loads a fact about the socket that receives or sends the packet; breaks off if there is none.
    Socket {
        /// Which fact.
        key: SocketKey,
        /// Where to.
        register: u32,
    },
    /// Leads the packet to a transparent proxy's socket at an address of this machine (`tproxy`);
    /// breaks off if there is none. What remains of an old connection is given up for the listener.
    ToListener {
        /// The IP version, as the kernel numbers it.
        family: u32,
        /// The register with the address.
        address: u32,
    },
    /// Loads bytes of the packet.
    Payload {
        /// Which header.
        base: Base,
        /// From which byte of it.
        offset: u32,
        /// How many bytes.
        length: u32,
        /// Where to.
        register: u32,
    },
    /// Loads what connection tracking says.
    Ct {
        /// Which fact, see [`ct`].
        key: u32,
        /// Where to.
        register: u32,
    },
    /// Masks a register: (register and mask) xor xor.
    Bitwise {
        /// From.
        source: u32,
        /// To.
        destination: u32,
        /// How many bytes.
        length: u32,
        /// The mask.
        mask: Vec<u8>,
        /// The bits to turn round.
        xor: Vec<u8>,
    },
    /// Turns a value of eight bytes into network order.
    Order {
        /// From.
        source: u32,
        /// To.
        destination: u32,
    },
    /// Goes on if the comparison holds.
    Cmp {
        /// What is compared.
        register: u32,
        /// How.
        op: Compare,
        /// With what.
        data: Vec<u8>,
    },
    /// Goes on if the register lies between two values, both included.
    Range {
        /// What is compared.
        register: u32,
        /// Inside, or outside.
        op: Compare,
        /// The lower value.
        from: Vec<u8>,
        /// The upper value.
        to: Vec<u8>,
    },
    /// Goes on if the register is in a set; in a map of verdicts, gives the verdict found.
    Lookup {
        /// What is looked up.
        register: u32,
        /// The set's name.
        set: String,
        /// The set's number within the batch that makes it; 0 when read back.
        id: u32,
        /// 1 turns it round.
        flags: u32,
        /// Whether the set is a map and what it holds is the verdict.
        to_verdict: bool,
    },
    /// Counts.
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
    Meter {
        /// The element's key.
        register: u32,
        /// The set's name.
        set: String,
        /// The set's number within the batch that makes it; 0 when read back.
        id: u32,
        /// The rate of each element.
        limit: Limit,
    },
    /// Puts Jenkins's hash of a register, below a bound, into a register; with a seed that the kernel
    /// chooses and tells nobody, unless there is another.
    Hash {
        /// What is hashed.
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
        /// How.
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
    /// Gives the verdict.
    Immediate(Verdict),
    /// An expression that is not known here, kept as it came.
    Other {
        /// Its name.
        name: String,
        /// Its attributes.
        data: Vec<u8>,
    },
}

impl Expression {
    /// The kernel's name of the expression.
    #[must_use]
    pub fn name(&self) -> &str {
        match self {
            Self::Meta { .. } => "meta",
            Self::Socket { .. } => "socket",
            Self::ToListener { .. } => "tproxy",
            Self::Payload { .. } => "payload",
            Self::Ct { .. } => "ct",
            Self::Bitwise { .. } => "bitwise",
            Self::Order { .. } => "byteorder",
            Self::Cmp { .. } => "cmp",
            Self::Range { .. } => "range",
            Self::Lookup { .. } => "lookup",
            Self::Counter { .. } => "counter",
            Self::Limit(_) => LIMIT,
            Self::Meter { .. } => "dynset",
            Self::Hash { .. } => "hash",
            Self::Reject { .. } => "reject",
            Self::Log { .. } => "log",
            Self::Immediate(_) => "immediate",
            Self::Other { name, .. } => name,
        }
    }

    /// Writes name and attributes.
    pub fn write(&self, out: &mut Writer) {
        out.text(NAME, self.name());
        out.nest(DATA, |out| self.write_data(out));
    }

    fn write_data(&self, out: &mut Writer) {
        match self {
            Self::Meta { key, register } => {
                out.be32(1, *register);
                out.be32(2, key.number());
            }
            Self::Socket { key, register } => {
                out.be32(1, key.number());
                out.be32(2, *register);
            }
            Self::ToListener { family, address } => {
                out.be32(1, *family);
                out.be32(2, *address);
            }
            Self::Payload { base, offset, length, register } => {
                out.be32(1, *register);
                out.be32(2, base.number());
                out.be32(3, *offset);
                out.be32(4, *length);
            }
            Self::Ct { key, register } => {
                out.be32(1, *register);
                out.be32(2, *key);
            }
            Self::Bitwise { source, destination, length, mask, xor } => {
                out.be32(1, *source);
                out.be32(2, *destination);
                out.be32(3, *length);
                write_value(out, 4, mask);
                write_value(out, 5, xor);
            }
            Self::Order { source, destination } => {
                out.be32(1, *source);
                out.be32(2, *destination);
                out.be32(3, BYTEORDER_HTON);
                out.be32(4, WIDE);
                out.be32(5, WIDE);
            }
            Self::Cmp { register, op, data } => {
                out.be32(1, *register);
                out.be32(2, op.number());
                write_value(out, 3, data);
            }
            Self::Range { register, op, from, to } => {
                out.be32(1, *register);
                out.be32(2, op.number());
                write_value(out, 3, from);
                write_value(out, 4, to);
            }
            Self::Lookup { register, set, id, flags, to_verdict } => {
                out.text(1, set);
                out.be32(2, *register);
                if *to_verdict {
                    out.be32(3, registers::VERDICT);
                }
                if *id != 0 {
                    out.be32(4, *id);
                }
                if *flags != 0 {
                    out.be32(5, *flags);
                }
            }
            Self::Counter { packets, bytes } => {
                out.be64(1, *bytes);
                out.be64(2, *packets);
            }
            Self::Limit(limit) => limit.write(out),
            Self::Meter { register, set, id, limit } => {
                out.text(1, set);
                if *id != 0 {
                    out.be32(2, *id);
                }
                out.be32(3, DYNSET_UPDATE);
                out.be32(4, *register);
                out.nest(7, |out| {
                    out.text(NAME, LIMIT);
                    out.nest(DATA, |out| limit.write(out));
                });
            }
            Self::Hash { source, destination, length, modulus, seed, offset } => {
                out.be32(1, *source);
                out.be32(2, *destination);
                out.be32(3, *length);
                out.be32(4, *modulus);
                if let Some(seed) = seed {
                    out.be32(5, *seed);
                }
                if *offset != 0 {
                    out.be32(6, *offset);
                }
            }
            Self::Reject { kind, code } => {
                out.be32(1, kind.number());
                // A reset has none.
                if *kind != RejectKind::TcpReset {
                    out.byte(2, *code);
                }
            }
            Self::Log { group, snap_length, threshold, prefix } => {
                out.be16(1, *group);
                if !prefix.is_empty() {
                    out.text(2, prefix);
                }
                out.be32(3, *snap_length);
                out.be16(4, *threshold);
            }
            Self::Immediate(verdict) => {
                out.be32(1, registers::VERDICT);
                out.nest(2, |out| verdict.write_data(out));
            }
            Self::Other { data, .. } => out.raw(data),
        }
    }

    /// Reads one element of `NFTA_RULE_EXPRESSIONS`.
    ///
    /// # Errors
    /// [`WireError`] if it is malformed. An expression that is well formed but has parts which
    /// this type cannot hold comes back as [`Expression::Other`].
    pub fn decode(element: &Attribute<'_>) -> Result<Self, WireError> {
        let (mut name, mut data) = (None, &[][..]);
        for attribute in element.nested("NFTA_LIST_ELEM") {
            let attribute = attribute?;
            match attribute.kind {
                NAME => name = Some(attribute.text("NFTA_EXPR_NAME")?),
                DATA => data = attribute.bytes,
                _ => {}
            }
        }
        let name = name.ok_or(WireError::Missing { what: "NFTA_EXPR_NAME" })?;
        let parts = Parts::read(data)?;
        let known = Self::known(name, &parts)?;
        Ok(known.unwrap_or_else(|| Self::Other { name: name.into(), data: data.to_vec() }))
    }

    fn known(name: &str, parts: &Parts<'_>) -> Result<Option<Self>, WireError> {
        Ok(Some(match name {
            "meta" if parts.has(1) => Self::Meta {
                key: MetaKey::from_number(parts.be32(2, "NFTA_META_KEY")?),
                register: parts.be32(1, "NFTA_META_DREG")?,
            },
            "socket" if !parts.has(3) => Self::Socket {
                key: SocketKey::from_number(parts.be32(1, "NFTA_SOCKET_KEY")?),
                register: parts.be32(2, "NFTA_SOCKET_DREG")?,
            },
            "tproxy" if parts.has(2) && !parts.has(3) => Self::ToListener {
                family: parts.be32(1, "NFTA_TPROXY_FAMILY")?,
                address: parts.be32(2, "NFTA_TPROXY_REG_ADDR")?,
            },
            "payload" if parts.has(1) => Self::Payload {
                base: Base::from_number(parts.be32(2, "NFTA_PAYLOAD_BASE")?),
                offset: parts.be32(3, "NFTA_PAYLOAD_OFFSET")?,
                length: parts.be32(4, "NFTA_PAYLOAD_LEN")?,
                register: parts.be32(1, "NFTA_PAYLOAD_DREG")?,
            },
            "ct" if parts.has(1) && !parts.has(3) => Self::Ct {
                key: parts.be32(2, "NFTA_CT_KEY")?,
                register: parts.be32(1, "NFTA_CT_DREG")?,
            },
            "bitwise" if parts.has(4) && parts.optional_be32(6)?.unwrap_or(0) == 0 => {
                Self::Bitwise {
                    source: parts.be32(1, "NFTA_BITWISE_SREG")?,
                    destination: parts.be32(2, "NFTA_BITWISE_DREG")?,
                    length: parts.be32(3, "NFTA_BITWISE_LEN")?,
                    mask: parts.value(4, "NFTA_BITWISE_MASK")?,
                    xor: parts.value(5, "NFTA_BITWISE_XOR")?,
                }
            }
            "byteorder"
                if [(3, BYTEORDER_HTON), (4, WIDE), (5, WIDE)]
                    .iter()
                    .all(|&(kind, value)| matches!(parts.optional_be32(kind), Ok(Some(it)) if it == value)) =>
            {
                Self::Order {
                    source: parts.be32(1, "NFTA_BYTEORDER_SREG")?,
                    destination: parts.be32(2, "NFTA_BYTEORDER_DREG")?,
                }
            }
            "cmp" => Self::Cmp {
                register: parts.be32(1, "NFTA_CMP_SREG")?,
                op: Compare::from_number(parts.be32(2, "NFTA_CMP_OP")?),
                data: parts.value(3, "NFTA_CMP_DATA")?,
            },
            "range" => Self::Range {
                register: parts.be32(1, "NFTA_RANGE_SREG")?,
                op: Compare::from_number(parts.be32(2, "NFTA_RANGE_OP")?),
                from: parts.value(3, "NFTA_RANGE_FROM_DATA")?,
                to: parts.value(4, "NFTA_RANGE_TO_DATA")?,
            },
            "lookup" if parts.optional_be32(3)?.is_none_or(|it| it == registers::VERDICT) => {
                Self::Lookup {
                    register: parts.be32(2, "NFTA_LOOKUP_SREG")?,
                    set: parts.text(1, "NFTA_LOOKUP_SET")?.into(),
                    id: 0,
                    flags: parts.optional_be32(5)?.unwrap_or(0),
                    to_verdict: parts.has(3),
                }
            }
            "counter" => Self::Counter {
                packets: parts.be64(2, "NFTA_COUNTER_PACKETS")?,
                bytes: parts.be64(1, "NFTA_COUNTER_BYTES")?,
            },
            LIMIT => Self::Limit(Limit::read(parts)?),
            "dynset" if parts.is_plain_meter()? => {
                let inner = Self::decode(parts.need(7, "NFTA_DYNSET_EXPR")?)?;
                let Self::Limit(limit) = inner else { return Ok(None) };
                Self::Meter {
                    register: parts.be32(4, "NFTA_DYNSET_SREG_KEY")?,
                    set: parts.text(1, "NFTA_DYNSET_SET_NAME")?.into(),
                    id: 0,
                    limit,
                }
            }
            "hash" if parts.optional_be32(7)?.unwrap_or(0) == HASH_JENKINS => Self::Hash {
                source: parts.be32(1, "NFTA_HASH_SREG")?,
                destination: parts.be32(2, "NFTA_HASH_DREG")?,
                length: parts.be32(3, "NFTA_HASH_LEN")?,
                modulus: parts.be32(4, "NFTA_HASH_MODULUS")?,
                seed: parts.optional_be32(5)?,
                offset: parts.optional_be32(6)?.unwrap_or(0),
            },
            "reject" => Self::Reject {
                kind: RejectKind::from_number(parts.be32(1, "NFTA_REJECT_TYPE")?),
                code: parts.get(2).map_or(Ok(0), |it| it.byte("NFTA_REJECT_ICMP_CODE"))?,
            },
            "log" if parts.has(1) => Self::Log {
                group: parts.need(1, "NFTA_LOG_GROUP")?.be16("NFTA_LOG_GROUP")?,
                snap_length: parts.optional_be32(3)?.unwrap_or(0),
                threshold: parts.get(4).map_or(Ok(0), |it| it.be16("NFTA_LOG_QTHRESHOLD"))?,
                prefix: parts.get(2).map_or(Ok(""), |it| it.text("NFTA_LOG_PREFIX"))?.into(),
            },
            "immediate" if parts.be32(1, "NFTA_IMMEDIATE_DREG")? == registers::VERDICT => {
                let verdict = Verdict::decode_data(parts.need(2, "NFTA_IMMEDIATE_DATA")?)?;
                Self::Immediate(verdict.ok_or(WireError::Missing { what: "NFTA_VERDICT_CODE" })?)
            }
            _ => return Ok(None),
        }))
    }
}

impl Limit {
    fn write(&self, out: &mut Writer) {
        out.be64(1, self.rate);
        out.be64(2, self.unit);
        out.be32(3, self.burst);
        out.be32(4, self.kind);
        out.be32(5, self.flags);
    }

    fn read(parts: &Parts<'_>) -> Result<Self, WireError> {
        Ok(Self {
            rate: parts.be64(1, "NFTA_LIMIT_RATE")?,
            unit: parts.be64(2, "NFTA_LIMIT_UNIT")?,
            burst: parts.optional_be32(3)?.unwrap_or(0),
            kind: parts.optional_be32(4)?.unwrap_or(0),
            flags: parts.optional_be32(5)?.unwrap_or(0),
        })
    }
}

fn write_value(out: &mut Writer, kind: u16, value: &[u8]) {
    out.nest(kind, |out| out.bytes(DATA_VALUE, value));
}

/// The bytes in an attribute that wraps `NFTA_DATA_VALUE`.
pub(super) fn data_value<'a>(attribute: &Attribute<'a>) -> Result<&'a [u8], WireError> {
    for inner in attribute.nested("NFTA_DATA") {
        let inner = inner?;
        if inner.kind == DATA_VALUE {
            return Ok(inner.bytes);
        }
    }
    Err(WireError::Missing { what: "NFTA_DATA_VALUE" })
}

/// Numbers of attributes that expressions are known by here are below this.
const NUMBERS: usize = 12;

/// The attributes of one expression, by number; of several with one number, the first.
struct Parts<'a>([Option<Attribute<'a>>; NUMBERS]);

impl<'a> Parts<'a> {
    fn read(data: &'a [u8]) -> Result<Self, WireError> {
        let mut parts = [const { None }; NUMBERS];
        for attribute in Attributes::new(data, "NFTA_EXPR_DATA") {
            let attribute = attribute?;
            if let Some(place) = parts.get_mut(usize::from(attribute.kind)) {
                place.get_or_insert(attribute);
            }
        }
        Ok(Self(parts))
    }

    fn get(&self, kind: u16) -> Option<&Attribute<'a>> {
        self.0.get(usize::from(kind))?.as_ref()
    }

    fn has(&self, kind: u16) -> bool {
        self.get(kind).is_some()
    }

    /// Whether a `dynset` updates an element, maps nothing, is not turned round, keeps the set's
    /// own time, and has just one expression.
    fn is_plain_meter(&self) -> Result<bool, WireError> {
        let updates = self.be32(3, "NFTA_DYNSET_OP")? == DYNSET_UPDATE;
        let plain = self.optional_be32(9)?.unwrap_or(0) & !DYNSET_FLAG_EXPRESSION == 0;
        let own_time = self.get(6).is_none_or(|it| it.bytes.iter().all(|&byte| byte == 0));
        Ok(updates && plain && own_time && !self.has(5) && self.has(7) && !self.has(10))
    }

    fn need(&self, kind: u16, what: &'static str) -> Result<&Attribute<'a>, WireError> {
        self.get(kind).ok_or(WireError::Missing { what })
    }

    fn be32(&self, kind: u16, what: &'static str) -> Result<u32, WireError> {
        self.need(kind, what)?.be32(what)
    }

    fn optional_be32(&self, kind: u16) -> Result<Option<u32>, WireError> {
        self.get(kind).map(|attribute| attribute.be32("NFTA_EXPR_DATA")).transpose()
    }

    fn be64(&self, kind: u16, what: &'static str) -> Result<u64, WireError> {
        self.need(kind, what)?.be64(what)
    }

    fn text(&self, kind: u16, what: &'static str) -> Result<&'a str, WireError> {
        self.need(kind, what)?.text(what)
    }

    fn value(&self, kind: u16, what: &'static str) -> Result<Vec<u8>, WireError> {
        data_value(self.need(kind, what)?).map(<[u8]>::to_vec)
    }
}
