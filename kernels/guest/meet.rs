//! Listens at ports, or tries to meet somebody at one, independently of the product.
//!
//! `meet listen 80 5432/udp 3868/sctp …`, `meet try ADDRESS PORT[/udp|/sctp]`.
//! `meet send FILE` sends to everywhere without end, and writes down how much; `meet capture HARDWARE ENDPOINT PORT FILE` writes down
//! what it sees of a machine: `tunnelled`, `link` and `leaked`, with a number each.

use std::io::{ErrorKind, Read, Write};
use std::ffi::{c_int, c_void};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::os::fd::{AsRawFd, FromRawFd, OwnedFd};
use std::time::Duration;

const PATIENCE: Duration = Duration::from_millis(1_500);

fn port(text: &str) -> (u16, &str) {
    let (number, protocol) = text.split_once('/').unwrap_or((text, "tcp"));
    (number.parse().expect("a port"), protocol)
}

/// The standard library knows no SCTP, but its streams are streams whatever carries them.
mod sctp {
    use super::*;

    // SAFETY: as the C library declares them (socket(2), bind(2), listen(2), connect(2)).
    unsafe extern "C" {
        fn socket(family: c_int, kind: c_int, protocol: c_int) -> c_int;
        fn bind(socket: c_int, address: *const c_void, length: u32) -> c_int;
        fn listen(socket: c_int, waiting: c_int) -> c_int;
        fn connect(socket: c_int, address: *const c_void, length: u32) -> c_int;
    }

    /// `struct sockaddr_in6`.
    #[repr(C)]
    struct Address {
        family: u16,
        port: [u8; 2],
        flow: u32,
        address: [u8; 16],
        scope: u32,
    }

    fn address(to: SocketAddr) -> Address {
        let address = match to.ip() {
            IpAddr::V4(it) => it.to_ipv6_mapped(),
            IpAddr::V6(it) => it,
        };
        let (family, flow, scope) = (10, 0, 0);
        Address { family, port: to.port().to_be_bytes(), flow, address: address.octets(), scope }
    }

    fn check(code: c_int) -> std::io::Result<c_int> {
        if code < 0 { Err(std::io::Error::last_os_error()) } else { Ok(code) }
    }

    fn open() -> std::io::Result<OwnedFd> {
        // SAFETY: it takes three numbers, and what it gives belongs to nobody else.
        Ok(unsafe { OwnedFd::from_raw_fd(check(socket(10, 1, 132))?) })
    }

    pub fn waiting(at: SocketAddr) -> std::io::Result<TcpListener> {
        let (socket, at) = (open()?, address(at));
        // SAFETY: the address lives until the call returns, and is as long as is said.
        check(unsafe { bind(socket.as_raw_fd(), (&raw const at).cast(), size_of::<Address>() as u32) })?;
        // SAFETY: it takes two numbers.
        check(unsafe { listen(socket.as_raw_fd(), 16) })?;
        Ok(socket.into())
    }

    pub fn connected(to: SocketAddr) -> std::io::Result<TcpStream> {
        let (socket, to) = (TcpStream::from(open()?), address(to));
        socket.set_write_timeout(Some(PATIENCE))?;
        // SAFETY: as for `bind`.
        match check(unsafe { connect(socket.as_raw_fd(), (&raw const to).cast(), size_of::<Address>() as u32) }) {
            // So it says that the time is over.
            Err(error) if error.raw_os_error() == Some(115) => Err(ErrorKind::TimedOut.into()),
            other => other.map(|_| socket),
        }
    }
}

/// What leaves a machine, by whatever protocol, and who sees it on the link.
mod everywhere {
    use super::*;
    use std::collections::BTreeMap;
    use std::fs::{self, File};
    use std::sync::Mutex;
    use std::time::Instant;

    // SAFETY: as the C library declares them (socket(2), connect(2)).
    unsafe extern "C" {
        fn socket(family: c_int, kind: c_int, protocol: c_int) -> c_int;
        fn connect(socket: c_int, address: *const c_void, length: u32) -> c_int;
    }

    fn open(family: c_int, kind: c_int, protocol: c_int) -> Option<OwnedFd> {
        // SAFETY: it takes three numbers, and what it gives belongs to nobody else.
        let socket = unsafe { socket(family, kind, protocol) };
        // SAFETY: as above; a negative number is no socket.
        (socket >= 0).then(|| unsafe { OwnedFd::from_raw_fd(socket) })
    }

    /// Sends something of a protocol that has no ports.
    fn raw(to: IpAddr, protocol: c_int) {
        let (family, mut address) = match to {
            IpAddr::V4(it) => (2u16, [&[0, 0][..], &it.octets(), &[0; 8]].concat()),
            IpAddr::V6(it) => (10, [&[0; 6][..], &it.octets(), &[0; 4]].concat()),
        };
        address.splice(0..0, family.to_ne_bytes());
        let Some(socket) = open(family.into(), 3, protocol) else { return };
        // SAFETY: the address is as long as is said, and in the form that its family has.
        if unsafe { connect(socket.as_raw_fd(), address.as_ptr().cast(), address.len() as u32) } == 0 {
            let _ = File::from(socket).write_all(&[8, 0, 0, 0, 0, 1, 0, 1]);
        }
    }

    pub fn send(file: &str) -> ! {
        let to: Vec<IpAddr> = ["192.0.2.1", "198.51.100.99", "203.0.113.9", "10.99.0.99", "224.0.0.251",
            "2001:db8:2::1", "2001:db8:bad::9", "fd99::99", "ff02::fb"]
            .iter().map(|it| it.parse().expect("an address")).collect();
        let (mut sent, mut written) = (0u64, Instant::now());
        let mut waiting = Vec::new();
        let mut sockets: Vec<UdpSocket> = Vec::new();
        loop {
            for address in &to {
                let any: IpAddr = if address.is_ipv4() { [0; 4].into() } else { Ipv6Addr::UNSPECIFIED.into() };
                if sockets.len() < 8 {
                    sockets.extend(UdpSocket::bind((any, 0)));
                }
                for port in [53, 67, 123, 443, 547, 4789, 5353] {
                    for socket in &sockets {
                        sent += u64::from(socket.send_to(b"where is it?", (*address, port)).is_ok());
                    }
                }
                for protocol in [1, 2, 4, 41, 47, 50, 58, 89, 132] {
                    raw(*address, protocol);
                    sent += 1;
                }
                if waiting.len() < 64 {
                    let to = SocketAddr::new(*address, 7777);
                    waiting.push(std::thread::spawn(move || TcpStream::connect_timeout(&to, PATIENCE)));
                    sent += 1;
                }
            }
            waiting.retain(|it| !it.is_finished());
            // Others of its kind from time to time: addresses come and go.
            if sent % 50 == 0 {
                sockets.clear();
            }
            if written.elapsed() > Duration::from_millis(500) {
                let _ = fs::write(file, sent.to_string());
                written = Instant::now();
            }
            std::thread::sleep(Duration::from_millis(5));
        }
    }

    /// What a frame from its EtherType on is (RFC 826, 2131, 8415, 4861, 2710, 3810, 3376).
    fn kind(frame: &[u8], tunnel: ([u8; 4], u16)) -> Result<&'static str, String> {
        let of = |at: usize| frame.get(at).copied().unwrap_or(0);
        let pair = |at: usize| u16::from_be_bytes([of(at), of(at + 1)]);
        let v4 = 2 + usize::from(of(2) & 15) * 4;
        let (protocol, body) = match pair(0) {
            0x0806 => return Ok("link"),
            0x0800 => (of(11), v4),
            // Multicast listeners are told with an option for routers ahead (RFC 2711).
            0x86dd if of(8) == 0 => (of(42), 42 + 8 + usize::from(of(43)) * 8),
            0x86dd => (of(8), 42),
            _ => (255, 0),
        };
        let ends = (pair(body), pair(body + 2));
        let link = match (pair(0), protocol) {
            (0x86dd, 58) => matches!(of(body), 130..=136 | 143),
            (0x0800, 2) => of(18) & 0xf0 == 224 && frame.len() > v4 + 4,
            (0x0800, 17) => ends == (68, 67),
            (0x86dd, 17) => ends == (546, 547),
            _ => false,
        };
        if pair(0) == 0x0800 && frame.get(18..22) == Some(&tunnel.0) && protocol == 17 && ends.1 == tunnel.1 {
            return Ok("tunnelled");
        }
        if link { Ok("link") } else { Err(format!("{:04x} protocol {protocol} to {}", pair(0), ends.1)) }
    }

    pub fn capture(hardware: &[u8], tunnel: ([u8; 4], u16), file: &str) -> ! {
        // AF_PACKET, SOCK_RAW, ETH_P_ALL (linux/if_ether.h) in the order of the network.
        let mut socket = File::from(open(17, 3, c_int::from(3u16.to_be())).expect("a raw socket"));
        let all: Mutex<BTreeMap<String, u64>> = Mutex::default();
        std::thread::scope(|scope| {
            scope.spawn(|| {
                loop {
                    write(&all.lock().expect("ours"), file);
                    std::thread::sleep(Duration::from_millis(300));
                }
            });
            let mut frame = [0; 2048];
            loop {
                let length = socket.read(&mut frame).expect("a frame");
                if length >= 14 && frame[6..12] == *hardware {
                    let word = kind(&frame[12..length], tunnel).map_or_else(|it| it, str::to_owned);
                    *all.lock().expect("ours").entry(word).or_default() += 1;
                }
            }
        })
    }

    fn write(all: &BTreeMap<String, u64>, file: &str) {
        let of = |word: &str| all.get(word).copied().unwrap_or(0);
        let leaks: Vec<_> = all.iter().filter(|it| !["tunnelled", "link"].contains(&it.0.as_str())).collect();
        let leaked: u64 = leaks.iter().map(|it| it.1).sum();
        let (tunnelled, link) = (of("tunnelled"), of("link"));
        let mut whole = format!("tunnelled {tunnelled}\nlink {link}\nleaked {leaked}\n");
        leaks.iter().for_each(|it| whole += &format!("{} times {}\n", it.1, it.0));
        fs::write(format!("{file}.new"), whole).expect("written");
        fs::rename(format!("{file}.new"), file).expect("in place");
    }
}

fn listen(text: &str) {
    let (port, protocol) = port(text);
    let any = SocketAddr::new(Ipv6Addr::UNSPECIFIED.into(), port);
    if protocol == "udp" {
        let socket = UdpSocket::bind(any).expect("a UDP port");
        std::thread::spawn(move || {
            let mut bytes = [0; 64];
            while let Ok((length, from)) = socket.recv_from(&mut bytes) {
                let _ = socket.send_to(&bytes[..length], from);
            }
        });
        return;
    }
    let listener = match protocol {
        "sctp" => sctp::waiting(any).expect("an SCTP port"),
        _ => TcpListener::bind(any).expect("a TCP port"),
    };
    std::thread::spawn(move || {
        let mut kept = Vec::new();
        for stream in listener.incoming().flatten() {
            let mut stream = stream;
            let _ = stream.write_all(b"here\n");
            kept.push(stream);
        }
    });
}

fn attempt(to: SocketAddr, protocol: &str) -> std::io::Result<&'static str> {
    if protocol == "udp" {
        let any: IpAddr = if to.is_ipv4() { [0; 4].into() } else { Ipv6Addr::UNSPECIFIED.into() };
        let socket = UdpSocket::bind((any, 0))?;
        socket.set_read_timeout(Some(PATIENCE))?;
        socket.connect(to)?;
        socket.send(b"here?")?;
        socket.recv(&mut [0; 64])?;
        return Ok("open");
    }
    if protocol == "sctp" {
        // Both ends have spoken when an association stands. What is said in it can take longer than our patience:
        // kernel 7.2 leaves two of a hundred waiting, whether or not it has any rules.
        return sctp::connected(to).map(|_| "open");
    }
    let mut stream = TcpStream::connect_timeout(&to, PATIENCE)?;
    stream.set_read_timeout(Some(PATIENCE))?;
    stream.read_exact(&mut [0; 5])?;
    Ok("open")
}

fn main() {
    let words: Vec<String> = std::env::args().skip(1).collect();
    match words.iter().map(String::as_str).collect::<Vec<_>>()[..] {
        ["listen", ref ports @ ..] => {
            ports.iter().for_each(|it| listen(it));
            loop {
                std::thread::park();
            }
        }
        ["try", address, what] => {
            let (port, protocol) = port(what);
            let to = SocketAddr::new(address.parse().expect("an address"), port);
            println!(
                "{}",
                attempt(to, protocol).unwrap_or_else(|error| match error.kind() {
                    ErrorKind::TimedOut | ErrorKind::WouldBlock => "silence",
                    ErrorKind::ConnectionRefused => "refused",
                    ErrorKind::HostUnreachable | ErrorKind::PermissionDenied => "prohibited",
                    _ => "failed",
                })
            );
        }
        ["send", file] => everywhere::send(file),
        ["capture", hardware, endpoint, port, file] => {
            let hardware = hardware.split(':').map(|it| u8::from_str_radix(it, 16).expect("hex"));
            let endpoint: Ipv4Addr = endpoint.parse().expect("an address");
            let tunnel = (endpoint.octets(), port.parse().expect("a port"));
            everywhere::capture(&hardware.collect::<Vec<_>>(), tunnel, file)
        }
        _ => std::process::exit(2),
    }
}
