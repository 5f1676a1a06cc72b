//! Log servers: messages of RFC 5424, over a local socket, UDP (RFC 5426), TCP (RFC 6587,
//! counted octets) or TLS (RFC 5425).

use super::item::{Item, PATIENCE, Taker, parts, sentence, severity};
use crate::tls;
use jiff::Timestamp;
use rustls::pki_types::ServerName;
use rustls::{ClientConfig, ClientConnection, StreamOwned};
use std::io::{self, Read, Write};
use std::net::{Shutdown, SocketAddr, TcpStream, ToSocketAddrs, UdpSocket};
use std::os::unix::net::UnixDatagram;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// Facility 4: security and authorization (RFC 5424 section 6.2.1).
const FACILITY: u8 = 4;
/// The number kept for examples (RFC 5612), since we have none of our own.
const ENTERPRISE: u32 = 32_473;

/// So long a server has to read what came last.
const FAREWELL: Duration = Duration::from_secs(2);

/// How a log server is reached.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Way {
    /// By a local socket.
    Unix(PathBuf),
    /// By datagrams.
    Udp(String),
    /// By a connection.
    Tcp(String),
    /// By a connection that nobody else can read, to a server that shows who it is.
    Tls(String),
}

impl Way {
    pub(super) fn parse(text: &str) -> Result<Self, String> {
        let expected =
            || "expected unix:/dev/log, udp:HOST:PORT, tcp:HOST:PORT or tls:HOST:PORT".to_owned();
        let (kind, rest) = text.split_once(':').ok_or_else(expected)?;
        let with_port = || {
            let port = rest.rsplit_once(':').and_then(|it| it.1.parse::<u16>().ok());
            port.map(|_| rest.to_owned()).ok_or_else(expected)
        };
        match kind {
            "unix" if rest.starts_with('/') => Ok(Self::Unix(rest.into())),
            "udp" => with_port().map(Self::Udp),
            "tcp" => with_port().map(Self::Tcp),
            "tls" => with_port().map(Self::Tls),
            _ => Err(expected()),
        }
    }
}

enum Socket {
    Unix(UnixDatagram),
    Udp(UdpSocket),
    Tcp(TcpStream),
    Tls(Box<StreamOwned<ClientConnection, TcpStream>>),
}

/// A log server.
pub(super) struct Syslog {
    way: Way,
    host: String,
    socket: Option<Socket>,
    taken: usize,
    tls: Option<Arc<ClientConfig>>,
}

impl Syslog {
    /// # Errors
    /// Why TLS cannot be spoken, if it is to be.
    pub(super) fn new(way: Way, host: &str) -> Result<Self, String> {
        let tls = matches!(way, Way::Tls(_)).then(tls::client).transpose()?;
        Ok(Self { way, host: host.to_owned(), socket: None, taken: 0, tls })
    }

    fn connect(&self) -> io::Result<Socket> {
        let first = |to: &str| {
            to.to_socket_addrs()?.next().ok_or_else(|| io::Error::other("the name has no address"))
        };
        Ok(match &self.way {
            Way::Unix(path) => {
                let socket = UnixDatagram::unbound()?;
                socket.connect(path)?;
                Socket::Unix(socket)
            }
            Way::Udp(to) => {
                let to = first(to)?;
                let own = if to.is_ipv4() { "0.0.0.0:0" } else { "[::]:0" };
                let socket = UdpSocket::bind(own)?;
                socket.connect(to)?;
                Socket::Udp(socket)
            }
            Way::Tcp(to) => Socket::Tcp(connected(&first(to)?)?),
            Way::Tls(to) => {
                let name = to.rsplit_once(':').map_or(&to[..], |it| it.0);
                let name = name.trim_start_matches('[').trim_end_matches(']').to_owned();
                let name = ServerName::try_from(name).map_err(io::Error::other)?;
                let Some(config) = &self.tls else { return Err(io::ErrorKind::Unsupported.into()) };
                let tls = ClientConnection::new(Arc::clone(config), name);
                let tls = tls.map_err(io::Error::other)?;
                let mut stream = StreamOwned::new(tls, connected(&first(to)?)?);
                // Who it is shows now, not with the first message.
                while stream.conn.is_handshaking() {
                    stream.conn.complete_io(&mut stream.sock)?;
                }
                Socket::Tls(Box::new(stream))
            }
        })
    }
}

impl Taker for Syslog {
    fn take(&mut self, items: &[Item]) -> io::Result<()> {
        let mut socket = match self.socket.take() {
            Some(socket) => socket,
            None => self.connect()?,
        };
        for item in items.iter().skip(self.taken) {
            let message = message(item, &self.host);
            match &mut socket {
                Socket::Unix(it) => it.send(message.as_bytes()).map(drop)?,
                Socket::Udp(it) => it.send(message.as_bytes()).map(drop)?,
                Socket::Tcp(it) => counted(it, &message)?,
                Socket::Tls(it) => counted(it, &message)?,
            }
            self.taken += 1;
        }
        if let Socket::Tls(it) = &mut socket {
            it.flush()?;
        }
        self.taken = 0;
        self.socket = Some(socket);
        Ok(())
    }
}

impl Drop for Syslog {
    /// Says that nothing more comes, and waits for the other end to say so too: who closes a connection on which
    /// something has come that was not read takes back what the other end has not read yet.
    fn drop(&mut self) {
        let Some(Socket::Tls(it)) = &mut self.socket else { return };
        it.conn.send_close_notify();
        let _ = it.flush();
        let _ = it.sock.shutdown(Shutdown::Write);
        let _ = it.sock.set_read_timeout(Some(FAREWELL));
        let until = Instant::now() + FAREWELL;
        let mut rest = [0; 4_096];
        while Instant::now() < until && it.sock.read(&mut rest).is_ok_and(|length| length > 0) {}
    }
}

/// A connection that does not keep anybody waiting for long.
fn connected(to: &SocketAddr) -> io::Result<TcpStream> {
    let socket = TcpStream::connect_timeout(to, PATIENCE)?;
    socket.set_write_timeout(Some(PATIENCE))?;
    socket.set_read_timeout(Some(PATIENCE))?;
    Ok(socket)
}

/// A message with its length ahead.
fn counted(to: &mut impl Write, message: &str) -> io::Result<()> {
    to.write_all(format!("{} {message}", message.len()).as_bytes())
}

fn message(item: &Item, host: &str) -> String {
    let priority = FACILITY * 8 + severity(item);
    let now = Timestamp::now();
    let host: String = host.chars().filter(char::is_ascii_graphic).take(255).collect();
    let mut data = format!("[tipstaff@{ENTERPRISE}");
    for (name, value) in parts(item) {
        data.push_str(&format!(" {name}=\"{}\"", escaped(&value)));
    }
    data.push(']');
    let process = std::process::id();
    let text = sentence(item).replace(['\n', '\r'], " ");
    format!("<{priority}>1 {now:.6} {host} tipstaff {process} decision {data} {text}")
}

/// As a value has to be written (RFC 5424 section 6.3.3).
fn escaped(value: &str) -> String {
    let mut out = String::new();
    for char in value.chars() {
        match char {
            '"' | '\\' | ']' => out.extend(['\\', char]),
            '\n' | '\r' => out.push(' '),
            char => out.push(char),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::{Way, escaped};

    #[test]
    fn values_cannot_end_what_they_stand_in() {
        assert_eq!(escaped("a\"]\\b\nc"), "a\\\"\\]\\\\b c");
    }

    #[test]
    fn ways_are_read_as_they_are_typed() {
        assert_eq!(Way::parse("unix:/dev/log"), Ok(Way::Unix("/dev/log".into())));
        assert_eq!(Way::parse("udp:[2001:db8::9]:514"), Ok(Way::Udp("[2001:db8::9]:514".into())));
        assert_eq!(Way::parse("tcp:logs.example:6514"), Ok(Way::Tcp("logs.example:6514".into())));
        assert_eq!(Way::parse("tls:logs.example:6514"), Ok(Way::Tls("logs.example:6514".into())));
        for wrong in ["", "unix", "unix:log", "udp:host", "tcp:host:port", "tls:host"] {
            assert!(Way::parse(wrong).is_err(), "{wrong}");
        }
    }
}
