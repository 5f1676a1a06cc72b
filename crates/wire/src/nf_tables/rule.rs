//! Rules.

use super::expression::Expression;
use super::{owned, read_header};
use crate::{WireError, Writer};

const TABLE: u16 = 1;
const CHAIN: u16 = 2;
const HANDLE: u16 = 3;
const EXPRESSIONS: u16 = 4;
const POSITION: u16 = 6;
const USER_DATA: u16 = 7;
const LIST_ELEMENT: u16 = 1;

/// A rule: expressions that run one after the other until one breaks off.
#[derive(Clone, Debug, PartialEq, Eq, Default)]
pub struct Rule {
    /// `nfgen_family`.
    pub family: u8,
    /// `NFTA_RULE_TABLE`.
    pub table: String,
    /// `NFTA_RULE_CHAIN`.
    pub chain: String,
    /// `NFTA_RULE_HANDLE`; the kernel gives it.
    pub handle: Option<u64>,
    /// `NFTA_RULE_EXPRESSIONS`.
    pub expressions: Vec<Expression>,
    /// `NFTA_RULE_USERDATA`, up to 256 bytes that the kernel keeps for the owner.
    pub user_data: Vec<u8>,
}

impl Rule {
    /// Writes the attributes of the message.
    pub fn write(&self, out: &mut Writer) {
        out.text(TABLE, &self.table);
        out.text(CHAIN, &self.chain);
        out.nest(EXPRESSIONS, |out| {
            for expression in &self.expressions {
                out.nest(LIST_ELEMENT, |out| expression.write(out));
            }
        });
        if !self.user_data.is_empty() {
            out.bytes(USER_DATA, &self.user_data);
        }
    }

    /// Writes the attributes of a request for all rules of the table.
    pub fn write_table(&self, out: &mut Writer) {
        out.text(TABLE, &self.table);
    }

    /// Writes where it is: its chain, and its handle if it has one. Likewise a request for all rules of a chain.
    pub fn write_place(&self, out: &mut Writer) {
        out.text(TABLE, &self.table);
        out.text(CHAIN, &self.chain);
        if let Some(handle) = self.handle {
            out.be64(HANDLE, handle);
        }
    }

    /// Writes beside which rule it is to stand.
    pub(super) fn write_position(&self, handle: u64, out: &mut Writer) {
        out.be64(POSITION, handle);
    }

    /// Reads the body of a `NFT_MSG_NEWRULE` message.
    ///
    /// # Errors
    /// [`WireError`] if it is malformed.
    pub fn decode(body: &[u8]) -> Result<Self, WireError> {
        let (family, attributes) = read_header(body, "NFT_MSG_NEWRULE")?;
        let mut rule = Self { family, ..Self::default() };
        for attribute in attributes {
            let attribute = attribute?;
            match attribute.kind {
                TABLE => rule.table = owned(&attribute, "NFTA_RULE_TABLE")?,
                CHAIN => rule.chain = owned(&attribute, "NFTA_RULE_CHAIN")?,
                HANDLE => rule.handle = Some(attribute.be64("NFTA_RULE_HANDLE")?),
                EXPRESSIONS => {
                    for element in attribute.nested("NFTA_RULE_EXPRESSIONS") {
                        rule.expressions.push(Expression::decode(&element?)?);
                    }
                }
                USER_DATA => rule.user_data = attribute.bytes.to_vec(),
                _ => {}
            }
        }
        Ok(rule)
    }
}
