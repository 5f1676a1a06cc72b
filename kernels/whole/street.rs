//! The network of an emulated machine, which is nothing but one neighbour that knocks at its ports from the
//! first moment on, over both IP versions, and counts who answers. Frames come and go as UDP datagrams.
//!
//! `street OWN-PORT MACHINE-PORT COUNT-FILE`: writes the counts anew after each second, as lines of
//! `VERSION PROTOCOL PORT ANSWERED FIRST-ANSWER-AFTER-MILLISECONDS`, and ends when its input does.

use std::collections::BTreeMap;
use std::io::Read;
use std::net::{Ipv4Addr, Ipv6Addr, UdpSocket};
use std::time::{Duration, Instant};

const OURS: [u8; 6] = [0x52, 0x54, 0, 0, 0, 1];
const THEIRS: [u8; 6] = [0x52, 0x54, 0, 0, 0, 2];
const US: (Ipv4Addr, Ipv6Addr) =
    (Ipv4Addr::new(192, 0, 2, 1), Ipv6Addr::new(0x2001, 0xdb8, 2, 0, 0, 0, 0, 1));
const THEM: (Ipv4Addr, Ipv6Addr) =
    (Ipv4Addr::new(192, 0, 2, 10), Ipv6Addr::new(0x2001, 0xdb8, 2, 0, 0, 0, 0, 0x10));
const PORTS: [u16; 5] = [22, 80, 5432, 5433, 9090];
const TCP: u8 = 6;
const UDP: u8 = 17;
const ICMPV6: u8 = 58;

/// The sum of the Internet protocols (RFC 1071).
fn sum(parts: &[&[u8]]) -> u16 {
    let mut total = 0u32;
    for part in parts {
        for pair in part.chunks(2) {
            total += u32::from(u16::from_be_bytes([pair[0], pair.get(1).copied().unwrap_or(0)]));
        }
    }
    while total > 0xffff {
        total = (total & 0xffff) + (total >> 16);
    }
    !(total as u16)
}

/// A frame to the machine that carries `body`, with the sum at `at` of it filled in.
fn frame(v6: bool, protocol: u8, mut body: Vec<u8>, at: usize) -> Vec<u8> {
    let length = (body.len() as u16).to_be_bytes();
    let mut ends = Vec::new();
    if v6 {
        ends.extend(US.1.octets());
        ends.extend(THEM.1.octets());
    } else {
        ends.extend(US.0.octets());
        ends.extend(THEM.0.octets());
    }
    let check = sum(&[&ends, &[0, protocol], &length, &body]).to_be_bytes();
    body[at..at + 2].copy_from_slice(&check);
    let mut whole = [THEIRS, OURS].concat();
    if v6 {
        whole.extend([0x86, 0xdd, 0x60, 0, 0, 0]);
        whole.extend(length);
        whole.extend([protocol, 255]);
    } else {
        let total = (body.len() as u16 + 20).to_be_bytes();
        let mut head = vec![0x45, 0, total[0], total[1], 0, 0, 0x40, 0, 64, protocol, 0, 0];
        let check = sum(&[&head, &ends]).to_be_bytes();
        head[10..12].copy_from_slice(&check);
        whole.extend([8, 0]);
        whole.extend(head);
    }
    whole.extend(ends);
    whole.extend(body);
    whole
}

fn knock(socket: &UdpSocket, to: (&str, u16), turn: u16) {
    let from = 20_000 + turn % 40_000;
    for v6 in [false, true] {
        for port in PORTS {
            let mut syn = [from.to_be_bytes(), port.to_be_bytes()].concat();
            syn.extend([0, 0, 0, 1, 0, 0, 0, 0, 0x50, 2, 0x40, 0, 0, 0, 0, 0]);
            let _ = socket.send_to(&frame(v6, TCP, syn, 16), to);
            let mut datagram = [from.to_be_bytes(), port.to_be_bytes()].concat();
            datagram.extend([0, 13, 0, 0]);
            datagram.extend(b"here?");
            let _ = socket.send_to(&frame(v6, UDP, datagram, 6), to);
        }
    }
}

/// Says where we are, when asked (RFC 826, RFC 4861).
fn neighbour(seen: &[u8]) -> Option<Vec<u8>> {
    if seen.get(12..14)? == [8, 6] && seen.get(38..42)? == US.0.octets() && seen[21] == 1 {
        let mut answer = [&THEIRS[..], &OURS, &[8, 6, 0, 1, 8, 0, 6, 4, 0, 2]].concat();
        answer.extend(OURS);
        answer.extend(US.0.octets());
        answer.extend(&seen[22..32]);
        return Some(answer);
    }
    if seen.get(12..14)? == [0x86, 0xdd] && seen.get(20)? == &ICMPV6 && seen.get(54)? == &135 {
        if seen.get(62..78)? != US.1.octets() {
            return None;
        }
        let mut answer = vec![136, 0, 0, 0, 0x60, 0, 0, 0];
        answer.extend(US.1.octets());
        answer.extend([2, 1]);
        answer.extend(OURS);
        return Some(frame(true, ICMPV6, answer, 2));
    }
    None
}

/// The version, protocol and port of an answer that shows that a knock was let in.
fn let_in(seen: &[u8]) -> Option<(u8, &'static str, u16)> {
    let (version, protocol, body) = match seen.get(12..14)? {
        [8, 0] => (4, *seen.get(23)?, seen.get(14 + usize::from(seen[14] & 15) * 4..)?),
        [0x86, 0xdd] => (6, *seen.get(20)?, seen.get(54..)?),
        _ => return None,
    };
    let port = u16::from_be_bytes([*body.first()?, *body.get(1)?]);
    match protocol {
        // Both bits of the second step of the handshake.
        TCP if body.get(13)? & 0x12 == 0x12 => Some((version, "tcp", port)),
        UDP if PORTS.contains(&port) => Some((version, "udp", port)),
        _ => None,
    }
}

fn main() {
    let words: Vec<String> = std::env::args().skip(1).collect();
    let [own, machine, file] = &words[..] else { std::process::exit(2) };
    let port = |text: &str| text.parse::<u16>().expect("a port");
    let socket = UdpSocket::bind(("127.0.0.1", port(own))).expect("a port of our own");
    socket.set_read_timeout(Some(Duration::from_millis(20))).expect("set");
    std::thread::spawn(|| {
        let _ = std::io::stdin().read(&mut [0]);
        std::process::exit(0);
    });
    let to = ("127.0.0.1", port(machine));
    let begun = Instant::now();
    let mut counts: BTreeMap<(u8, &str, u16), (u64, u128)> = BTreeMap::new();
    let (mut turn, mut knocked, mut written) = (0u16, begun, begun);
    let mut bytes = [0; 2048];
    loop {
        if knocked.elapsed() >= Duration::from_millis(50) {
            knock(&socket, to, turn);
            (turn, knocked) = (turn.wrapping_add(1), Instant::now());
        }
        if let Ok((length, _)) = socket.recv_from(&mut bytes) {
            let seen = &bytes[..length];
            if let Some(answer) = neighbour(seen) {
                let _ = socket.send_to(&answer, to);
            } else if let Some(it) = let_in(seen) {
                counts.entry(it).or_insert((0, begun.elapsed().as_millis())).0 += 1;
            }
        }
        if written.elapsed() >= Duration::from_secs(1) {
            let lines = counts.iter().map(|((version, protocol, port), (count, first))| {
                format!("IPv{version} {protocol} {port} {count} {first}\n")
            });
            std::fs::write(file, lines.collect::<String>()).expect("written");
            written = Instant::now();
        }
    }
}
