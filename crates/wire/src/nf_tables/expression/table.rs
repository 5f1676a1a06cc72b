//! Which attributes each expression has (linux/netfilter/nf_tables.h): for each its number, its name there,
//! how it stands in the message, and the field that it is here.

use super::super::names::{Base, Compare, MetaKey, RejectKind, SocketKey, registers};
use super::super::verdict::Verdict;
use super::forms::{
    Be16, Be16OrZero, Be32, Be32OrZero, Be64, Data, Form, InBatch, OptionalBe32, Text, TextOrNone,
    ToVerdict,
};
use super::known::Expression;
use super::limit::{InExpression, Limit, NAMED};
use super::parts::Parts;
use crate::{WireError, Writer};

/// What else must hold of an expression, for it to be all that the fields say.
enum Also {
    /// The attribute is this number; it is written so.
    Is(u16, u32),
    /// It is there: without it, the expression does something else.
    There(u16),
    /// It is not there.
    NotThere(u16),
    /// It is not there, or zero.
    Zero(u16),
    /// It is not there, or has no other bits than these.
    Only(u16, u32),
}
use Also::{Is, NotThere, Only, There, Zero};

impl Also {
    fn write(&self, out: &mut Writer) {
        if let Is(kind, value) = self {
            out.be32(*kind, *value);
        }
    }

    fn holds(&self, parts: &Parts<'_>) -> Result<bool, WireError> {
        Ok(match self {
            Is(kind, value) => parts.optional(*kind)? == Some(*value),
            There(kind) => parts.get(*kind).is_some(),
            NotThere(kind) => parts.get(*kind).is_none(),
            Zero(kind) => parts.get(*kind).is_none_or(|it| it.bytes.iter().all(|&byte| byte == 0)),
            Only(kind, bits) => parts.optional(*kind)?.unwrap_or(0) & !bits == 0,
        })
    }
}

macro_rules! expressions {
    ($($variant:ident = $name:literal {
        $($number:literal $attribute:literal $form:ident => $field:ident,)*
    } also [$($also:expr),*];)*) => {
        /// The kernel's name of an expression.
        pub fn name(expression: &Expression) -> &str {
            match expression {
                $(Expression::$variant { .. } => $name,)*
                Expression::Limit(_) => NAMED,
                Expression::Reject { .. } => "reject",
                Expression::Immediate(_) => "immediate",
                Expression::Other { name, .. } => name,
            }
        }

        /// Writes an expression with its name and attributes.
        pub fn write(expression: &Expression, out: &mut Writer) {
            match expression {
                $(Expression::$variant { $($field),* } => {
                    $($form::write(out, $number, $field);)*
                    let also: &[Also] = &[$($also),*];
                    also.iter().for_each(|it| it.write(out));
                })*
                other => write_other(other, out),
            }
        }

        /// Reads the attributes of an expression; `None` if not all of it can be held.
        ///
        /// # Errors
        /// [`WireError`] if it is malformed.
        pub fn read(name: &str, parts: &Parts<'_>) -> Result<Option<Expression>, WireError> {
            match name {
                $($name => {
                    let also: &[Also] = &[$($also),*];
                    for it in also {
                        if !it.holds(parts)? {
                            return Ok(None);
                        }
                    }
                    if !($($form::holds(parts, $number))&&*) {
                        return Ok(None);
                    }
                    Ok(Some(Expression::$variant {
                        $($field: $form::read(parts, $number, $attribute)?,)*
                    }))
                })*
                _ => read_other(name, parts),
            }
        }
    };
}

/// `NFT_BYTEORDER_HTON`.
const HTON: u32 = 1;
/// `NFT_DYNSET_OP_UPDATE`: make the element, or renew its time.
const UPDATE: u32 = 1;
/// `NFT_DYNSET_F_EXPR`: there is an expression, which shows anyway.
const HAS_EXPRESSION: u32 = 2;

expressions! {
    Meta = "meta" {
        1 "NFTA_META_DREG" Be32 => register,
        2 "NFTA_META_KEY" MetaKey => key,
    } also [There(1)];
    Socket = "socket" {
        1 "NFTA_SOCKET_KEY" SocketKey => key,
        2 "NFTA_SOCKET_DREG" Be32 => register,
    } also [NotThere(3)]; // NFTA_SOCKET_LEVEL
    Tproxy = "tproxy" {
        1 "NFTA_TPROXY_FAMILY" Be32 => family,
        2 "NFTA_TPROXY_REG_ADDR" Be32 => address,
    } also [There(2), NotThere(3)]; // NFTA_TPROXY_REG_PORT
    Payload = "payload" {
        1 "NFTA_PAYLOAD_DREG" Be32 => register,
        2 "NFTA_PAYLOAD_BASE" Base => base,
        3 "NFTA_PAYLOAD_OFFSET" Be32 => offset,
        4 "NFTA_PAYLOAD_LEN" Be32 => length,
    } also [There(1)];
    Ct = "ct" {
        1 "NFTA_CT_DREG" Be32 => register,
        2 "NFTA_CT_KEY" Be32 => key,
    } also [There(1), NotThere(3)]; // NFTA_CT_DIRECTION
    Bitwise = "bitwise" {
        1 "NFTA_BITWISE_SREG" Be32 => source,
        2 "NFTA_BITWISE_DREG" Be32 => destination,
        3 "NFTA_BITWISE_LEN" Be32 => length,
        4 "NFTA_BITWISE_MASK" Data => mask,
        5 "NFTA_BITWISE_XOR" Data => xor,
    } also [There(4), Only(6, 0)]; // NFTA_BITWISE_OP: NFT_BITWISE_MASK_XOR
    Byteorder = "byteorder" {
        1 "NFTA_BYTEORDER_SREG" Be32 => source,
        2 "NFTA_BYTEORDER_DREG" Be32 => destination,
    } also [Is(3, HTON), Is(4, 8), Is(5, 8)]; // NFTA_BYTEORDER_OP, _LEN, _SIZE: one value of 8 bytes
    Cmp = "cmp" {
        1 "NFTA_CMP_SREG" Be32 => register,
        2 "NFTA_CMP_OP" Compare => op,
        3 "NFTA_CMP_DATA" Data => data,
    } also [];
    Range = "range" {
        1 "NFTA_RANGE_SREG" Be32 => register,
        2 "NFTA_RANGE_OP" Compare => op,
        3 "NFTA_RANGE_FROM_DATA" Data => from,
        4 "NFTA_RANGE_TO_DATA" Data => to,
    } also [];
    Lookup = "lookup" {
        1 "NFTA_LOOKUP_SET" Text => set,
        2 "NFTA_LOOKUP_SREG" Be32 => register,
        3 "NFTA_LOOKUP_DREG" ToVerdict => to_verdict,
        4 "NFTA_LOOKUP_SET_ID" InBatch => id,
        5 "NFTA_LOOKUP_FLAGS" Be32OrZero => flags,
    } also [];
    Counter = "counter" {
        1 "NFTA_COUNTER_BYTES" Be64 => bytes,
        2 "NFTA_COUNTER_PACKETS" Be64 => packets,
    } also [];
    Dynset = "dynset" {
        1 "NFTA_DYNSET_SET_NAME" Text => set,
        2 "NFTA_DYNSET_SET_ID" InBatch => id,
        4 "NFTA_DYNSET_SREG_KEY" Be32 => register,
        7 "NFTA_DYNSET_EXPR" InExpression => limit,
        // NFTA_DYNSET_OP; _SREG_DATA; _TIMEOUT: the set's own; _FLAGS; _EXPRESSIONS: more than one.
    } also [Is(3, UPDATE), NotThere(5), Zero(6), Only(9, HAS_EXPRESSION), NotThere(10)];
    Hash = "hash" {
        1 "NFTA_HASH_SREG" Be32 => source,
        2 "NFTA_HASH_DREG" Be32 => destination,
        3 "NFTA_HASH_LEN" Be32 => length,
        4 "NFTA_HASH_MODULUS" Be32 => modulus,
        5 "NFTA_HASH_SEED" OptionalBe32 => seed,
        6 "NFTA_HASH_OFFSET" Be32OrZero => offset,
    } also [Only(7, 0)]; // NFTA_HASH_TYPE: NFT_HASH_JENKINS
    Log = "log" {
        1 "NFTA_LOG_GROUP" Be16 => group,
        2 "NFTA_LOG_PREFIX" TextOrNone => prefix,
        3 "NFTA_LOG_SNAPLEN" LogBytes => snap_length,
        4 "NFTA_LOG_QTHRESHOLD" Be16OrZero => threshold,
    } also [There(1)];
}

/// How many bytes are reported: written also if that is none, which is said by leaving it out.
struct LogBytes;

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
