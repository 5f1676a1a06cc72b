//! What the kernel tells of packets that are traced: each rule that they meet.

use super::Verdict;
use super::read_header;
use crate::{Attribute, WireError};

/// `NFNLGRP_NFTRACE`: the group that is told.
pub const TRACE_GROUP: u32 = 9;

/// `NFT_TRACETYPE_POLICY`: a chain's end was reached, or it came back out of one.
const POLICY: u32 = 1;
/// `NFT_TRACETYPE_RULE`.
const RULE: u32 = 3;

/// What a packet met.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Met {
    /// The end of the chain where packets enter: what becomes of it there.
    End,
    /// A rule, by its handle, all of whose tests held.
    Rule(u64),
    /// Something else.
    Other,
}

/// One step of a packet's way.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Trace<'a> {
    /// `NFTA_TRACE_TABLE`.
    pub table: &'a str,
    /// `NFTA_TRACE_CHAIN`.
    pub chain: &'a str,
    /// What it met.
    pub met: Met,
    /// `NFTA_TRACE_VERDICT`, or `NFTA_TRACE_POLICY` at the end of a chain.
    pub verdict: Option<Verdict>,
    /// `NFTA_TRACE_ID`: the same for all steps of a packet, and perhaps for a later one.
    pub id: u32,
    /// `NFTA_TRACE_NETWORK_HEADER`, up to 40 bytes; only in the first step of each chain where packets enter.
    pub network: &'a [u8],
    /// `NFTA_TRACE_TRANSPORT_HEADER`, up to 20 bytes, likewise.
    pub transport: &'a [u8],
    /// `NFTA_TRACE_IIF`: the number of the link by which it came in, likewise.
    pub in_link: Option<u32>,
    /// `NFTA_TRACE_OIF`: the number of the link by which it goes out, likewise.
    pub out_link: Option<u32>,
}

impl<'a> Trace<'a> {
    /// Reads the body of a `NFT_MSG_TRACE` message.
    ///
    /// # Errors
    /// [`WireError`] if it is malformed.
    pub fn decode(body: &'a [u8]) -> Result<Self, WireError> {
        let (_, attributes) = read_header(body, "NFT_MSG_TRACE")?;
        let mut trace = Self {
            table: "",
            chain: "",
            met: Met::Other,
            verdict: None,
            id: 0,
            network: &[],
            transport: &[],
            in_link: None,
            out_link: None,
        };
        let (mut handle, mut kind) = (None, 0);
        for attribute in attributes {
            let attribute: Attribute<'a> = attribute?;
            match attribute.kind {
                1 => trace.table = attribute.text("NFTA_TRACE_TABLE")?,
                2 => trace.chain = attribute.text("NFTA_TRACE_CHAIN")?,
                3 => handle = Some(attribute.be64("NFTA_TRACE_RULE_HANDLE")?),
                4 => kind = attribute.be32("NFTA_TRACE_TYPE")?,
                5 => trace.verdict = Verdict::decode(&attribute)?,
                6 => trace.id = attribute.be32("NFTA_TRACE_ID")?,
                8 => trace.network = attribute.bytes,
                9 => trace.transport = attribute.bytes,
                10 => trace.in_link = Some(attribute.be32("NFTA_TRACE_IIF")?),
                12 => trace.out_link = Some(attribute.be32("NFTA_TRACE_OIF")?),
                16 => {
                    let code = attribute.be32("NFTA_TRACE_POLICY")?;
                    trace.verdict = Some(if code == 1 { Verdict::Accept } else { Verdict::Drop });
                }
                _ => {}
            }
        }
        trace.met = match (kind, handle) {
            (RULE, Some(handle)) => Met::Rule(handle),
            (POLICY, _) => Met::End,
            _ => Met::Other,
        };
        Ok(trace)
    }
}
