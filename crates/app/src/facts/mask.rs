//! Other addresses in the place of a machine's own, so that all questions about them have the same answers.
//!
//! Bit by bit: whether a bit is turned over depends on a secret and on the bits before it. So two addresses that
//! begin alike begin alike behind the mask, networks stay networks, and what lies in one lies in it still; after
//! J. Xu, J. Fan, M. Ammar, S. Moon, "Prefix-preserving IP address anonymization", ICNP 2002.

use hmac_sha256::HMAC;
use serde_json::Value;
use std::cell::RefCell;
use std::collections::HashMap;
use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use tipstaff_core::space::{Block, HardwareAddress};

/// Networks whose addresses say what they are for and not whose they are: these stay. What is link-local keeps
/// its beginning alone.
const KEPT: [&str; 7] =
    ["0.0.0.0/8", "127.0.0.0/8", "224.0.0.0/4", "255.255.255.255", "::", "::1", "ff00::/8"];
const BEGINNING_KEPT: [&str; 2] = ["169.254.0.0/16", "fe80::/10"];
/// What stands for a text of which nobody knows what it holds.
const LEFT_OUT: &str = "left out";

/// The beginning of an address: whether it is IPv6, its bits, and how many of them count.
type Node = (bool, u128, u32);

/// A mask. Each one is another.
pub(super) struct Mask {
    secret: [u8; 32],
    turned: RefCell<HashMap<Node, bool>>,
    kept: Vec<Node>,
    beginnings: Vec<Node>,
}

impl Mask {
    /// Makes one.
    ///
    /// # Errors
    /// The system's, if it has no chance to give.
    pub(super) fn new() -> io::Result<Self> {
        let mut secret = [0; 32];
        let flags = rustix::rand::GetRandomFlags::empty();
        rustix::rand::getrandom(&mut secret[..], flags)?;
        Ok(Self::with(secret))
    }

    fn with(secret: [u8; 32]) -> Self {
        let nodes = |texts: &[&str]| texts.iter().filter_map(|it| network(it)).collect();
        let turned = RefCell::default();
        Self { secret, turned, kept: nodes(&KEPT), beginnings: nodes(&BEGINNING_KEPT) }
    }

    /// Puts it on every text that is an address, a network, an address with a port or a hardware address.
    pub(crate) fn put_on(&self, value: &mut Value) {
        match value {
            Value::String(text) => {
                if let Some(masked) = self.text(text) {
                    *text = masked;
                }
            }
            Value::Array(values) => values.iter_mut().for_each(|it| self.put_on(it)),
            Value::Object(parts) => {
                for (key, part) in parts {
                    // Bytes of rules that are not understood may be addresses.
                    match part {
                        Value::String(text) if key == "opaque" => *text = LEFT_OUT.into(),
                        part => self.put_on(part),
                    }
                }
            }
            Value::Null | Value::Bool(_) | Value::Number(_) => {}
        }
    }

    fn text(&self, text: &str) -> Option<String> {
        if let Ok(address) = text.parse::<IpAddr>() {
            return Some(self.address(address).to_string());
        }
        if let Ok(end) = text.parse::<SocketAddr>() {
            return Some(SocketAddr::new(self.address(end.ip()), end.port()).to_string());
        }
        if let Some((v6, bits, length)) = network(text) {
            let masked = self.masked((v6, bits, length));
            let first: IpAddr =
                if v6 { Ipv6Addr::from_bits(masked).into() } else { v4(masked).into() };
            return Some(format!("{first}/{length}"));
        }
        let HardwareAddress(bytes) = text.parse().ok()?;
        let mac = HMAC::mac(bytes, self.secret);
        let mut masked = [0; 6];
        masked.copy_from_slice(&mac[..6]);
        // One that nobody has made: locally administered, and of one station (IEEE 802, 8.2.2).
        masked[0] = masked[0] & !1 | 2;
        Some(HardwareAddress(masked).to_string())
    }

    fn address(&self, address: IpAddr) -> IpAddr {
        match address {
            IpAddr::V4(it) => v4(self.masked((false, top(it), 32))).into(),
            IpAddr::V6(it) => match it.to_ipv4_mapped() {
                Some(inner) => v4(self.masked((false, top(inner), 32))).to_ipv6_mapped().into(),
                None => Ipv6Addr::from_bits(self.masked((true, it.to_bits(), 128))).into(),
            },
        }
    }

    /// The bits behind the mask, as far as they count.
    fn masked(&self, (v6, bits, length): Node) -> u128 {
        (0..length).fold(0, |masked, at| {
            let bit = 1 << (127 - at);
            let turned = self.is_turned((v6, bits & !(bit | (bit - 1)), at));
            masked | (bits & bit) ^ if turned { bit } else { 0 }
        })
    }

    /// Whether the bit behind this beginning is turned over.
    fn is_turned(&self, node: Node) -> bool {
        let leads = |it: &&Node| node.2 < it.2 && begins(it, &node);
        if self.kept.iter().chain(&self.beginnings).any(|it| leads(&it))
            || self.kept.iter().any(|it| begins(&node, it))
        {
            return false;
        }
        *self.turned.borrow_mut().entry(node).or_insert_with(|| {
            let (v6, bits, length) = node;
            let mut words = bits.to_be_bytes().to_vec();
            words.extend(length.to_be_bytes());
            words.push(u8::from(v6));
            HMAC::mac(words, self.secret)[0] & 1 == 1
        })
    }
}

/// Whether the longer one begins with the shorter one.
fn begins(longer: &Node, shorter: &Node) -> bool {
    let differing = (longer.1 ^ shorter.1).leading_zeros();
    longer.0 == shorter.0 && longer.2 >= shorter.2 && differing >= shorter.2
}

fn network(text: &str) -> Option<Node> {
    let (address, length) = text.split_once('/').unwrap_or((text, ""));
    Block::parse(text).ok()?;
    let (v6, bits, all) = match address.parse().ok()? {
        IpAddr::V4(it) => (false, top(it), 32),
        IpAddr::V6(it) => (true, it.to_bits(), 128),
    };
    Some((v6, bits, if length.is_empty() { all } else { length.parse().ok()? }))
}

/// The bits of an IPv4 address, as the first ones.
fn top(address: Ipv4Addr) -> u128 {
    u128::from(address.to_bits()) << 96
}

fn v4(bits: u128) -> Ipv4Addr {
    Ipv4Addr::from_bits(u32::try_from(bits >> 96).unwrap_or_default())
}

#[cfg(test)]
mod tests {
    use super::{BEGINNING_KEPT, KEPT, Mask};
    use serde_json::{Value, json};
    use std::net::IpAddr;
    use tipstaff_core::space::{AddressSet, HardwareAddress};

    fn masked<T: serde::Serialize + serde::de::DeserializeOwned>(mask: &Mask, it: &T) -> T {
        let mut value = serde_json::to_value(it).expect("a value");
        mask.put_on(&mut value);
        serde_json::from_value(value).expect("the same sort of value")
    }

    fn set(blocks: &[&str]) -> AddressSet {
        serde_json::from_value(json!(blocks)).expect("a set")
    }

    #[test]
    fn whoever_is_in_a_network_is_in_it_behind_the_mask() {
        let mask = Mask::with([7; 32]);
        let sets = [
            set(&["198.51.100.0/27", "203.0.113.9/32"]),
            set(&["10.44.8.0/24"]),
            // All but a few, in many blocks.
            AddressSet::full().difference(&set(&[
                "10.44.8.20/32",
                "fd44:8::20/128",
                "192.0.2.0/25",
            ])),
            set(&["2001:db8:51::/64", "fd44:8::/48"]),
        ];
        let addresses = [
            "198.51.100.7",
            "198.51.100.32",
            "203.0.113.9",
            "203.0.113.8",
            "10.44.8.20",
            "10.44.8.21",
            "192.0.2.127",
            "192.0.2.128",
            "2001:db8:51::1",
            "2001:db8:52::1",
            "fd44:8::20",
            "fd44:8::21",
            "127.0.0.1",
            "ff02::1",
        ];
        let (mut within, mut without) = (0, 0);
        for it in &sets {
            let behind = masked(&mask, it);
            for address in addresses {
                let address: IpAddr = address.parse().expect("an address");
                assert_eq!(
                    behind.contains(masked(&mask, &address)),
                    it.contains(address),
                    "{address} {it}"
                );
                *(if it.contains(address) { &mut within } else { &mut without }) += 1;
            }
        }
        assert!(within > 10 && without > 10, "{within} {without}");
        assert_eq!(masked(&mask, &AddressSet::full()), AddressSet::full());
    }

    #[test]
    fn nobody_is_known_behind_it_and_what_everybody_has_stays() {
        let mask = Mask::with([7; 32]);
        let texts = [
            "198.51.100.7",
            "2001:db8:51::7",
            "::ffff:198.51.100.7",
            "198.51.100.7:2202",
            "[2001:db8:51::7]:22",
            "198.51.100.0/27",
            "2001:db8:51::/64",
            "52:54:00:12:34:56",
            "fe80::5054:ff:fe12:3456",
        ];
        for text in texts {
            let mut value = Value::from(text);
            mask.put_on(&mut value);
            assert_ne!(value, text);
            // Of the same sort still.
            let sort = |it: &str| {
                (it.contains('/'), it.matches(['[', '.']).count(), it.contains("::ffff:"))
            };
            let found = value.as_str().expect("a text");
            assert_eq!(sort(found), sort(text), "{found} for {text}");
            let mut other = Value::from(text);
            Mask::with([8; 32]).put_on(&mut other);
            assert_ne!(value, other, "every mask is another");
        }
        for text in KEPT.iter().chain(&BEGINNING_KEPT).chain(&[
            "127.0.0.1",
            "224.0.0.251",
            "eth0",
            "22/tcp",
            "12",
        ]) {
            let mut value = Value::from(*text);
            mask.put_on(&mut value);
            assert!(
                value
                    .as_str()
                    .is_some_and(|it| it.trim_end_matches("/32") == text.trim_end_matches("/32")),
                "{value} for {text}"
            );
        }
        let mut link_local = Value::from("fe80::5054:ff:fe12:3456");
        mask.put_on(&mut link_local);
        assert!(link_local.as_str().is_some_and(|it| it.starts_with("fe")), "{link_local}");
        let HardwareAddress(bytes) = masked(&mask, &HardwareAddress([0x53, 0x54, 0, 1, 2, 3]));
        assert_eq!(bytes[0] & 3, 2, "locally administered, and one station's");
    }

    #[test]
    fn what_is_not_understood_is_left_out() {
        let mut value = json!({"tests": [{"opaque": "c6336407"}, {"source": ["198.51.100.0/27"]}]});
        Mask::with([7; 32]).put_on(&mut value);
        assert_eq!(value["tests"][0]["opaque"], "left out");
        assert!(!value.to_string().contains("198.51"), "{value}");
    }
}
