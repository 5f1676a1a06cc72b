//! Listens at ports, or tries to meet somebody at one, independently of the product.
//!
//! `meet listen 80 5432/udp 3868/sctp …`, `meet try ADDRESS PORT[/udp|/sctp]`.

use std::io::{ErrorKind, Read, Write};
use std::ffi::c_int;
use std::net::{IpAddr, Ipv6Addr, SocketAddr, TcpListener, TcpStream, UdpSocket};
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
        fn bind(socket: c_int, address: *const Address, length: u32) -> c_int;
        fn listen(socket: c_int, waiting: c_int) -> c_int;
        fn connect(socket: c_int, address: *const Address, length: u32) -> c_int;
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
        check(unsafe { bind(socket.as_raw_fd(), &at, size_of::<Address>() as u32) })?;
        // SAFETY: it takes two numbers.
        check(unsafe { listen(socket.as_raw_fd(), 16) })?;
        Ok(socket.into())
    }

    pub fn connected(to: SocketAddr) -> std::io::Result<TcpStream> {
        let (socket, to) = (TcpStream::from(open()?), address(to));
        socket.set_write_timeout(Some(PATIENCE))?;
        // SAFETY: as for `bind`.
        match check(unsafe { connect(socket.as_raw_fd(), &to, size_of::<Address>() as u32) }) {
            // So it says that the time is over.
            Err(error) if error.raw_os_error() == Some(115) => Err(ErrorKind::TimedOut.into()),
            other => other.map(|_| socket),
        }
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
        _ => std::process::exit(2),
    }
}
