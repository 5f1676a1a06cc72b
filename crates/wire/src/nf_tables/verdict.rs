//! Verdicts.

use crate::{Attribute, WireError, Writer};

/// `NFTA_DATA_VERDICT`, and what is in it.
const DATA_VERDICT: u16 = 2;
const VERDICT_CODE: u16 = 1;
const VERDICT_CHAIN: u16 = 2;

/// What an `immediate` to the verdict register says.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Verdict {
    /// `NF_DROP`.
    Drop,
    /// `NF_ACCEPT`.
    Accept,
    /// `NFT_JUMP` to a chain.
    Jump(String),
    /// `NFT_GOTO` to a chain: it does not come back.
    Goto(String),
    /// `NFT_RETURN`: back to behind the last jump.
    Return,
    /// Any other code, with the chain if there is one.
    Other(i32, Option<String>),
}

const CODE_DROP: i32 = 0;
const CODE_ACCEPT: i32 = 1;
const CODE_JUMP: i32 = -3;
const CODE_GOTO: i32 = -4;
const CODE_RETURN: i32 = -5;

impl Verdict {
    fn write(&self, out: &mut Writer) {
        let (code, chain) = match self {
            Self::Drop => (CODE_DROP, None),
            Self::Accept => (CODE_ACCEPT, None),
            Self::Jump(chain) => (CODE_JUMP, Some(chain)),
            Self::Goto(chain) => (CODE_GOTO, Some(chain)),
            Self::Return => (CODE_RETURN, None),
            Self::Other(code, chain) => (*code, chain.as_ref()),
        };
        out.be32(VERDICT_CODE, code.cast_unsigned());
        if let Some(chain) = chain {
            out.text(VERDICT_CHAIN, chain);
        }
    }

    /// Writes it as data, into what wraps data.
    pub(super) fn write_data(&self, out: &mut Writer) {
        out.nest(DATA_VERDICT, |out| self.write(out));
    }

    /// Reads what wraps data; `None` if that is no verdict.
    pub(super) fn decode_data(data: &Attribute<'_>) -> Result<Option<Self>, WireError> {
        for attribute in data.nested("NFTA_DATA") {
            let attribute = attribute?;
            if attribute.kind == DATA_VERDICT {
                return Self::decode(&attribute);
            }
        }
        Ok(None)
    }

    /// Reads what stands in a verdict's attribute; `None` if that is no verdict.
    pub(super) fn decode(verdict: &Attribute<'_>) -> Result<Option<Self>, WireError> {
        let (mut code, mut chain) = (None, None);
        for part in verdict.nested("NFTA_DATA_VERDICT") {
            let part = part?;
            match part.kind {
                VERDICT_CODE => code = Some(part.be32("NFTA_VERDICT_CODE")?.cast_signed()),
                VERDICT_CHAIN => chain = Some(part.text("NFTA_VERDICT_CHAIN")?.to_owned()),
                _ => {}
            }
        }
        Ok(code.map(|code| match (code, chain) {
            (CODE_DROP, None) => Self::Drop,
            (CODE_ACCEPT, None) => Self::Accept,
            (CODE_JUMP, Some(chain)) => Self::Jump(chain),
            (CODE_GOTO, Some(chain)) => Self::Goto(chain),
            (CODE_RETURN, None) => Self::Return,
            (code, chain) => Self::Other(code, chain),
        }))
    }
}
