//! How values stand in attributes. Numbers are big-endian.

use super::super::names::{Base, Compare, MetaKey, RejectKind, SocketKey, registers};
use super::parts::{DATA_VALUE, Parts, data_value};
use crate::{WireError, Writer};

/// How one attribute is written and read.
pub trait Form {
    /// What the bytes stand for.
    type Value;

    /// Writes the attribute with its header.
    fn write(out: &mut Writer, kind: u16, value: &Self::Value);

    /// Reads it.
    ///
    /// # Errors
    /// [`WireError`] if it is malformed, or missing and needed.
    fn read(parts: &Parts<'_>, kind: u16, what: &'static str) -> Result<Self::Value, WireError>;

    /// Whether what is there can be held here.
    fn holds(_: &Parts<'_>, _: u16) -> bool {
        true
    }
}

/// 32 bits, highest byte first.
pub struct Be32;

impl Form for Be32 {
    type Value = u32;

    fn write(out: &mut Writer, kind: u16, value: &u32) {
        out.be32(kind, *value);
    }

    fn read(parts: &Parts<'_>, kind: u16, what: &'static str) -> Result<u32, WireError> {
        parts.need(kind, what)?.be32(what)
    }
}

/// The number of a register that holds data, not the verdict.
pub struct DataRegister;

impl Form for DataRegister {
    type Value = u32;

    fn write(out: &mut Writer, kind: u16, value: &u32) {
        out.be32(kind, *value);
    }

    fn read(parts: &Parts<'_>, kind: u16, what: &'static str) -> Result<u32, WireError> {
        Be32::read(parts, kind, what)
    }

    fn holds(parts: &Parts<'_>, kind: u16) -> bool {
        let register = parts.optional(kind).ok().flatten();
        register.is_some_and(|it| it != registers::VERDICT)
    }
}

/// One byte.
pub struct Byte;

impl Form for Byte {
    type Value = u8;

    fn write(out: &mut Writer, kind: u16, value: &u8) {
        out.byte(kind, *value);
    }

    fn read(parts: &Parts<'_>, kind: u16, what: &'static str) -> Result<u8, WireError> {
        parts.need(kind, what)?.byte(what)
    }

    fn holds(parts: &Parts<'_>, kind: u16) -> bool {
        parts.get(kind).is_some_and(|it| it.bytes.len() == 1)
    }
}

/// 32 bits, left out if they are zero.
pub struct Be32OrZero;

impl Form for Be32OrZero {
    type Value = u32;

    fn write(out: &mut Writer, kind: u16, value: &u32) {
        if *value != 0 {
            out.be32(kind, *value);
        }
    }

    fn read(parts: &Parts<'_>, kind: u16, what: &'static str) -> Result<u32, WireError> {
        parts.get(kind).map_or(Ok(0), |it| it.be32(what))
    }
}

/// 32 bits that may be left out.
pub struct OptionalBe32;

impl Form for OptionalBe32 {
    type Value = Option<u32>;

    fn write(out: &mut Writer, kind: u16, value: &Option<u32>) {
        if let Some(value) = value {
            out.be32(kind, *value);
        }
    }

    fn read(parts: &Parts<'_>, kind: u16, what: &'static str) -> Result<Option<u32>, WireError> {
        parts.get(kind).map(|it| it.be32(what)).transpose()
    }
}

/// 64 bits, highest byte first.
pub struct Be64;

impl Form for Be64 {
    type Value = u64;

    fn write(out: &mut Writer, kind: u16, value: &u64) {
        out.be64(kind, *value);
    }

    fn read(parts: &Parts<'_>, kind: u16, what: &'static str) -> Result<u64, WireError> {
        parts.need(kind, what)?.be64(what)
    }
}

/// 16 bits, highest byte first.
pub struct Be16;

impl Form for Be16 {
    type Value = u16;

    fn write(out: &mut Writer, kind: u16, value: &u16) {
        out.be16(kind, *value);
    }

    fn read(parts: &Parts<'_>, kind: u16, what: &'static str) -> Result<u16, WireError> {
        parts.need(kind, what)?.be16(what)
    }
}

/// 16 bits; what is left out is zero.
pub struct Be16OrZero;

impl Form for Be16OrZero {
    type Value = u16;

    fn write(out: &mut Writer, kind: u16, value: &u16) {
        out.be16(kind, *value);
    }

    fn read(parts: &Parts<'_>, kind: u16, what: &'static str) -> Result<u16, WireError> {
        parts.get(kind).map_or(Ok(0), |it| it.be16(what))
    }
}

/// A text with a zero byte behind it.
pub struct Text;

impl Form for Text {
    type Value = String;

    fn write(out: &mut Writer, kind: u16, value: &String) {
        out.text(kind, value);
    }

    fn read(parts: &Parts<'_>, kind: u16, what: &'static str) -> Result<String, WireError> {
        parts.need(kind, what)?.text(what).map(str::to_owned)
    }
}

/// A text, left out if it is empty.
pub struct TextOrNone;

impl Form for TextOrNone {
    type Value = String;

    fn write(out: &mut Writer, kind: u16, value: &String) {
        if !value.is_empty() {
            out.text(kind, value);
        }
    }

    fn read(parts: &Parts<'_>, kind: u16, what: &'static str) -> Result<String, WireError> {
        parts.get(kind).map_or(Ok(""), |it| it.text(what)).map(str::to_owned)
    }
}

/// Bytes, wrapped as `NFTA_DATA_VALUE`.
pub struct Data;

impl Form for Data {
    type Value = Vec<u8>;

    fn write(out: &mut Writer, kind: u16, value: &Vec<u8>) {
        out.nest(kind, |out| out.bytes(DATA_VALUE, value));
    }

    fn read(parts: &Parts<'_>, kind: u16, what: &'static str) -> Result<Vec<u8>, WireError> {
        data_value(parts.need(kind, what)?).map(<[u8]>::to_vec)
    }
}

/// The number of a set within the batch that makes it; the kernel does not tell it again.
pub struct InBatch;

impl Form for InBatch {
    type Value = u32;

    fn write(out: &mut Writer, kind: u16, value: &u32) {
        Be32OrZero::write(out, kind, value);
    }

    fn read(_: &Parts<'_>, _: u16, _: &'static str) -> Result<u32, WireError> {
        Ok(0)
    }
}

/// Whether there is a result, and that is the verdict.
pub struct ToVerdict;

impl Form for ToVerdict {
    type Value = bool;

    fn write(out: &mut Writer, kind: u16, value: &bool) {
        if *value {
            out.be32(kind, registers::VERDICT);
        }
    }

    fn read(parts: &Parts<'_>, kind: u16, _: &'static str) -> Result<bool, WireError> {
        Ok(parts.get(kind).is_some())
    }

    fn holds(parts: &Parts<'_>, kind: u16) -> bool {
        parts.optional(kind).is_ok_and(|it| it.is_none_or(|it| it == registers::VERDICT))
    }
}

impl Form for MetaKey {
    type Value = Self;

    fn write(out: &mut Writer, kind: u16, value: &Self) {
        out.be32(kind, value.number());
    }

    fn read(parts: &Parts<'_>, kind: u16, what: &'static str) -> Result<Self, WireError> {
        Be32::read(parts, kind, what).map(Self::from_number)
    }
}

impl Form for SocketKey {
    type Value = Self;

    fn write(out: &mut Writer, kind: u16, value: &Self) {
        out.be32(kind, value.number());
    }

    fn read(parts: &Parts<'_>, kind: u16, what: &'static str) -> Result<Self, WireError> {
        Be32::read(parts, kind, what).map(Self::from_number)
    }
}

impl Form for Base {
    type Value = Self;

    fn write(out: &mut Writer, kind: u16, value: &Self) {
        out.be32(kind, value.number());
    }

    fn read(parts: &Parts<'_>, kind: u16, what: &'static str) -> Result<Self, WireError> {
        Be32::read(parts, kind, what).map(Self::from_number)
    }
}

impl Form for Compare {
    type Value = Self;

    fn write(out: &mut Writer, kind: u16, value: &Self) {
        out.be32(kind, value.number());
    }

    fn read(parts: &Parts<'_>, kind: u16, what: &'static str) -> Result<Self, WireError> {
        Be32::read(parts, kind, what).map(Self::from_number)
    }
}

impl Form for RejectKind {
    type Value = Self;

    fn write(out: &mut Writer, kind: u16, value: &Self) {
        out.be32(kind, value.number());
    }

    fn read(parts: &Parts<'_>, kind: u16, what: &'static str) -> Result<Self, WireError> {
        Be32::read(parts, kind, what).map(Self::from_number)
    }
}
