//! Rules that choose a routing table (linux/fib_rules.h), as far as they look at marks.

use crate::netlink::{self, DUMP, REQUEST};
use crate::{Attributes, Fields, WireError, Writer};
use serde::{Deserialize, Serialize};

/// `RTM_GETRULE`.
const GET_RULE: u16 = 34;
/// `struct fib_rule_hdr`.
const HEADER: usize = 12;
const PRIORITY: u16 = 6;
const MARK: u16 = 10;
const MASK: u16 = 16;
/// `AF_INET6`.
const FAMILY_V6: u8 = 10;

/// A rule that chooses a routing table by marks.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct MarkRule {
    /// Whether it is about IPv6.
    pub v6: bool,
    /// Its place among the others: low ones come first.
    pub priority: u32,
    /// The mark that it is for.
    pub mark: u32,
    /// The bits of the mark that it looks at.
    pub mask: u32,
}

/// A request for all rules of both IP versions.
///
/// # Errors
/// [`WireError`] never, in fact: nothing in it varies in length.
pub fn dump_rules(sequence: u32) -> Result<Vec<u8>, WireError> {
    let mut out = Writer::new();
    netlink::write(&mut out, GET_RULE, REQUEST | DUMP, sequence, |out| out.raw(&[0; HEADER]));
    out.finish()
}

/// Reads the body of an answer; `None` if the rule looks at no mark.
///
/// # Errors
/// [`WireError`] if it is malformed.
pub fn decode_rule(body: &[u8]) -> Result<Option<MarkRule>, WireError> {
    let mut fields = Fields::new(body, "struct fib_rule_hdr");
    let family = fields.byte()?;
    fields.take(HEADER - 1)?;
    let (mut priority, mut mark, mut mask) = (0, 0, None);
    for attribute in Attributes::new(fields.rest(), "RTM_NEWRULE") {
        let attribute = attribute?;
        match attribute.kind {
            PRIORITY => priority = attribute.ne32("FRA_PRIORITY")?,
            MARK => mark = attribute.ne32("FRA_FWMARK")?,
            MASK => mask = Some(attribute.ne32("FRA_FWMASK")?),
            _ => {}
        }
    }
    // A rule for a mark without a mask looks at all bits (`fib_rules.c`).
    let mask = mask.or((mark != 0).then_some(u32::MAX)).filter(|it| *it != 0);
    Ok(mask.map(|mask| MarkRule { v6: family == FAMILY_V6, priority, mark, mask }))
}

#[cfg(test)]
mod tests {
    use super::{MarkRule, decode_rule};

    fn attribute(kind: u16, value: u32) -> Vec<u8> {
        [&8_u16.to_ne_bytes()[..], &kind.to_ne_bytes(), &value.to_ne_bytes()].concat()
    }

    #[test]
    fn only_rules_about_marks_are_told() {
        let head = [10, 0, 0, 0, 254, 0, 0, 1, 0, 0, 0, 0];
        assert_eq!(decode_rule(&head), Ok(None));
        let body = [&head[..], &attribute(6, 100), &attribute(10, 0xca6c)].concat();
        let rule = MarkRule { v6: true, priority: 100, mark: 0xca6c, mask: u32::MAX };
        assert_eq!(decode_rule(&body), Ok(Some(rule)));
        let masked = [&body[..], &attribute(16, 0xff00)].concat();
        assert_eq!(decode_rule(&masked), Ok(Some(MarkRule { mask: 0xff00, ..rule })));
        assert!(decode_rule(&head[..5]).is_err());
    }
}
