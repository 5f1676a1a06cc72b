//! Listens at ports, or tries to meet somebody at one, independently of the product.
//!
//! `meet listen 80 5432/udp …`, `meet try ADDRESS PORT[/udp]`.

use std::io::{ErrorKind, Read, Write};
use std::net::{IpAddr, Ipv6Addr, SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::time::Duration;

const PATIENCE: Duration = Duration::from_millis(1_500);

fn port(text: &str) -> (u16, bool) {
    let (number, udp) = text.strip_suffix("/udp").map_or((text, false), |it| (it, true));
    (number.parse().expect("a port"), udp)
}

fn listen(text: &str) {
    let (port, udp) = port(text);
    let any = SocketAddr::new(Ipv6Addr::UNSPECIFIED.into(), port);
    if udp {
        let socket = UdpSocket::bind(any).expect("a UDP port");
        std::thread::spawn(move || {
            let mut bytes = [0; 64];
            while let Ok((length, from)) = socket.recv_from(&mut bytes) {
                let _ = socket.send_to(&bytes[..length], from);
            }
        });
        return;
    }
    let listener = TcpListener::bind(any).expect("a TCP port");
    std::thread::spawn(move || {
        let mut kept = Vec::new();
        for stream in listener.incoming().flatten() {
            let mut stream = stream;
            let _ = stream.write_all(b"here\n");
            kept.push(stream);
        }
    });
}

fn attempt(to: SocketAddr, udp: bool) -> std::io::Result<&'static str> {
    if udp {
        let any: IpAddr = if to.is_ipv4() { [0; 4].into() } else { Ipv6Addr::UNSPECIFIED.into() };
        let socket = UdpSocket::bind((any, 0))?;
        socket.set_read_timeout(Some(PATIENCE))?;
        socket.connect(to)?;
        socket.send(b"here?")?;
        socket.recv(&mut [0; 64])?;
        return Ok("open");
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
            let (port, udp) = port(what);
            let to = SocketAddr::new(address.parse().expect("an address"), port);
            println!(
                "{}",
                attempt(to, udp).unwrap_or_else(|error| match error.kind() {
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
