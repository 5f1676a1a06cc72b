//! A token bucket.

use super::forms::{Be32OrZero, Be64, Form};
use super::parts::{DATA, NAME, Parts, split};
use crate::{WireError, Writer};

/// The kernel's name of it.
pub(super) const NAMED: &str = "limit";

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

impl Limit {
    pub(super) fn write(&self, out: &mut Writer) {
        Be64::write(out, 1, &self.rate);
        Be64::write(out, 2, &self.unit);
        // Written also where they are zero: the kernel has other values for what is left out.
        out.be32(3, self.burst);
        out.be32(4, self.kind);
        out.be32(5, self.flags);
    }

    pub(super) fn read(parts: &Parts<'_>) -> Result<Self, WireError> {
        Ok(Self {
            rate: Be64::read(parts, 1, "NFTA_LIMIT_RATE")?,
            unit: Be64::read(parts, 2, "NFTA_LIMIT_UNIT")?,
            burst: Be32OrZero::read(parts, 3, "NFTA_LIMIT_BURST")?,
            kind: Be32OrZero::read(parts, 4, "NFTA_LIMIT_TYPE")?,
            flags: Be32OrZero::read(parts, 5, "NFTA_LIMIT_FLAGS")?,
        })
    }
}

/// A limit as an expression inside another one.
pub struct InExpression;

impl Form for InExpression {
    type Value = Limit;

    fn write(out: &mut Writer, kind: u16, value: &Limit) {
        out.nest(kind, |out| {
            out.text(NAME, NAMED);
            out.nest(DATA, |out| value.write(out));
        });
    }

    fn read(parts: &Parts<'_>, kind: u16, what: &'static str) -> Result<Limit, WireError> {
        let (_, data) = split(parts.need(kind, what)?)?;
        Limit::read(&Parts::read(data)?)
    }

    fn holds(parts: &Parts<'_>, kind: u16) -> bool {
        parts.get(kind).is_some_and(|it| split(it).is_ok_and(|it| it.0 == NAMED))
    }
}
