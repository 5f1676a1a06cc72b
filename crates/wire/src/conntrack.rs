//! Flows that the kernel keeps track of (linux/netfilter/nfnetlink_conntrack.h).

use crate::netlink::{self, ACK, DUMP, REQUEST};
use crate::{Attribute, Attributes, Fields, WireError, Writer};
use serde::{Deserialize, Serialize};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

const SUBSYSTEM: u16 = 1;
const GET: u16 = SUBSYSTEM << 8 | 1;
const DELETE: u16 = SUBSYSTEM << 8 | 2;

const TUPLE_ORIGINAL: u16 = 1;
const TUPLE_REPLY: u16 = 2;
const STATUS: u16 = 3;
const SEEN_REPLY: u32 = 2;
const ID: u16 = 12;
const PROTOCOL_INFO: u16 = 4;
const INFO_TCP: u16 = 1;
const TCP_STATE: u16 = 1;
const TUPLE_IP: u16 = 1;
const TUPLE_PROTOCOL: u16 = 2;
const V4_SOURCE: u16 = 1;
const V4_DESTINATION: u16 = 2;
const V6_SOURCE: u16 = 3;
const V6_DESTINATION: u16 = 4;
const PROTOCOL_NUMBER: u16 = 1;
const SOURCE_PORT: u16 = 2;
const DESTINATION_PORT: u16 = 3;
const ICMP_TYPE: u16 = 5;
const ICMPV6_TYPE: u16 = 8;

/// One flow, by its first packet.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Flow {
    /// `AF_INET` or `AF_INET6`.
    pub family: u8,
    /// Where its first packet came from.
    pub source: IpAddr,
    /// The address that the first packet went to.
    pub destination: IpAddr,
    /// The protocol's number in the IP header.
    pub protocol: u8,
    /// The ports, source first, for protocols that have them.
    pub ports: Option<(u16, u16)>,
    /// The type, for ICMP and ICMPv6.
    pub icmp_type: Option<u8>,
    /// Who answers, with the port if there are any: another than it went to, if that was translated (`CTA_TUPLE_REPLY`).
    #[serde(default)]
    pub answers: Option<(IpAddr, Option<u16>)>,
    /// Whether it has been answered (`IPS_SEEN_REPLY`).
    pub answered: bool,
    /// The state of a TCP flow (`enum tcp_conntrack`); `None` for others.
    pub tcp_state: Option<u8>,
    /// The kernel's number of the flow (`CTA_ID`).
    pub id: u32,
    /// The original tuple as the kernel wrote it, by which it finds the flow again.
    #[serde(skip)]
    tuple: Vec<u8>,
}

/// From this state of a TCP flow on it is over: `TCP_CONNTRACK_LAST_ACK`, `TIME_WAIT`, `CLOSE`.
const TCP_OVER: std::ops::RangeInclusive<u8> = 6..=8;

impl Flow {
    /// Where its packets go and to which port: elsewhere than its sender asked for, if that was translated.
    #[must_use]
    pub fn goes_to(&self) -> (IpAddr, Option<u16>) {
        self.answers.unwrap_or((self.destination, self.ports.map(|it| it.1)))
    }

    /// The port that its sender asked for, if its packets were led elsewhere.
    #[must_use]
    pub fn asked(&self) -> Option<u16> {
        let port = self.ports.map(|it| it.1)?;
        (self.goes_to() != (self.destination, Some(port))).then_some(port)
    }

    /// Whether it is over, and only remembered.
    #[must_use]
    pub fn is_over(&self) -> bool {
        self.tcp_state.is_some_and(|state| TCP_OVER.contains(&state))
    }
}

fn header(out: &mut Writer, family: u8) {
    // struct nfgenmsg: family, version, resource.
    out.raw(&[family, 0, 0, 0]);
}

/// A request for all flows.
///
/// # Errors
/// [`WireError`] never, in fact: nothing in it varies in length.
pub fn dump(sequence: u32) -> Result<Vec<u8>, WireError> {
    let mut out = Writer::new();
    netlink::write(&mut out, GET, REQUEST | DUMP, sequence, |out| header(out, 0));
    out.finish()
}

/// A request that the kernel forget a flow. The kernel refuses if there is another one by now.
///
/// # Errors
/// [`WireError`] if the tuple is too long, which the kernel's own never is.
pub fn delete(flow: &Flow, sequence: u32) -> Result<Vec<u8>, WireError> {
    let mut out = Writer::new();
    netlink::write(&mut out, DELETE, REQUEST | ACK, sequence, |out| {
        header(out, flow.family);
        out.nest(TUPLE_ORIGINAL, |out| out.raw(&flow.tuple));
        out.be32(ID, flow.id);
    });
    out.finish()
}

/// Reads the body of an answer to [`dump`].
///
/// # Errors
/// [`WireError`] if it is malformed.
pub fn decode(body: &[u8]) -> Result<Flow, WireError> {
    let mut fields = Fields::new(body, "struct nfgenmsg");
    let family = fields.byte()?;
    fields.take(3)?;
    let nowhere = IpAddr::V4(Ipv4Addr::UNSPECIFIED);
    let mut flow = Flow {
        family,
        source: nowhere,
        destination: nowhere,
        protocol: 0,
        ports: None,
        icmp_type: None,
        answers: None,
        answered: false,
        tcp_state: None,
        id: 0,
        tuple: Vec::new(),
    };
    for attribute in Attributes::new(fields.rest(), "conntrack attributes") {
        let attribute = attribute?;
        match attribute.kind {
            TUPLE_ORIGINAL => {
                flow.tuple = attribute.bytes.to_vec();
                tuple(&mut flow, &attribute)?;
            }
            TUPLE_REPLY => {
                let mut reply = Flow { tuple: Vec::new(), ..flow.clone() };
                tuple(&mut reply, &attribute)?;
                flow.answers = Some((reply.source, reply.ports.map(|it| it.0)));
            }
            STATUS => flow.answered = attribute.be32("CTA_STATUS")? & SEEN_REPLY != 0,
            PROTOCOL_INFO => flow.tcp_state = tcp_state(&attribute)?,
            ID => flow.id = attribute.be32("CTA_ID")?,
            _ => {}
        }
    }
    if flow.tuple.is_empty() {
        return Err(WireError::Missing { what: "CTA_TUPLE_ORIG" });
    }
    Ok(flow)
}

fn tcp_state(information: &Attribute<'_>) -> Result<Option<u8>, WireError> {
    for protocol in information.nested("CTA_PROTOINFO") {
        let protocol = protocol?;
        if protocol.kind != INFO_TCP {
            continue;
        }
        for field in protocol.nested("CTA_PROTOINFO_TCP") {
            let field = field?;
            if field.kind == TCP_STATE {
                return field.byte("CTA_PROTOINFO_TCP_STATE").map(Some);
            }
        }
    }
    Ok(None)
}

fn tuple(flow: &mut Flow, tuple: &Attribute<'_>) -> Result<(), WireError> {
    for part in tuple.nested("CTA_TUPLE_ORIG") {
        let part = part?;
        match part.kind {
            TUPLE_IP => {
                for end in part.nested("CTA_TUPLE_IP") {
                    let end = end?;
                    match end.kind {
                        V4_SOURCE => flow.source = v4(&end)?,
                        V4_DESTINATION => flow.destination = v4(&end)?,
                        V6_SOURCE => flow.source = v6(&end)?,
                        V6_DESTINATION => flow.destination = v6(&end)?,
                        _ => {}
                    }
                }
            }
            TUPLE_PROTOCOL => {
                let (mut source, mut destination) = (None, None);
                for field in part.nested("CTA_TUPLE_PROTO") {
                    let field = field?;
                    match field.kind {
                        PROTOCOL_NUMBER => flow.protocol = field.byte("CTA_PROTO_NUM")?,
                        SOURCE_PORT => source = Some(field.be16("CTA_PROTO_SRC_PORT")?),
                        DESTINATION_PORT => destination = Some(field.be16("CTA_PROTO_DST_PORT")?),
                        ICMP_TYPE | ICMPV6_TYPE => {
                            flow.icmp_type = Some(field.byte("CTA_PROTO_ICMP_TYPE")?);
                        }
                        _ => {}
                    }
                }
                flow.ports = source.zip(destination);
            }
            _ => {}
        }
    }
    Ok(())
}

fn v4(attribute: &Attribute<'_>) -> Result<IpAddr, WireError> {
    Ok(Ipv4Addr::from_bits(attribute.be32("CTA_IP_V4")?).into())
}

fn v6(attribute: &Attribute<'_>) -> Result<IpAddr, WireError> {
    let mut fields = Fields::new(attribute.bytes, "CTA_IP_V6");
    Ok(Ipv6Addr::from(fields.sixteen()?).into())
}
