//! A program that does with sockets what it is told: the test binary itself, started anew from a
//! file of one's choice.

use crate::ring;
use rustix::fd::{AsFd, AsRawFd, FromRawFd, OwnedFd};
use rustix::io::{FdFlags, IoSlice, IoSliceMut, fcntl_setfd};
use rustix::net::sockopt::set_socket_reuseaddr;
use rustix::net::{
    AddressFamily, Protocol, RecvAncillaryBuffer, RecvAncillaryMessage, RecvFlags,
    SendAncillaryBuffer, SendAncillaryMessage, SendFlags, SocketType, bind, connect, listen, recv,
    recvfrom, recvmsg, sendmsg, sendto, socket,
};
use rustix::process::Uid;
use std::io::{BufRead, BufReader, Write};
use std::net::SocketAddr;
use std::os::unix::net::{UnixListener, UnixStream};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};
use std::time::Duration;
use tipstaff_linux::lab::Node;
use tipstaff_linux::lab::testing::{mark, set_mark, set_mark_at_length};

const PART: &str = "TIPSTAFF_TEST_PART";

/// A running actor.
pub struct Actor {
    process: Child,
    orders: ChildStdin,
    answers: BufReader<ChildStdout>,
}

impl Actor {
    /// Starts the file at `program`, a copy of this test binary, on a machine.
    pub fn start(on: &Node, program: &Path) -> Self {
        let mut command = Command::new(program);
        command.args(["actor::the_part_is_played", "--exact", "--nocapture", "--test-threads=1"]);
        command.env(PART, "yes").stdin(Stdio::piped()).stdout(Stdio::piped());
        on.start_here(&mut command).expect("the machine is there");
        let mut process = command.spawn().expect("the actor starts");
        let orders = process.stdin.take().expect("piped");
        let answers = BufReader::new(process.stdout.take().expect("piped"));
        Self { process, orders, answers }
    }

    /// Gives an order and waits for the answer.
    pub fn ask(&mut self, order: &str) -> String {
        writeln!(self.orders, "{order}").expect("the actor listens");
        self.next()
    }

    fn next(&mut self) -> String {
        loop {
            let mut line = String::new();
            let read = self.answers.read_line(&mut line).expect("the actor answers");
            assert_ne!(read, 0, "the actor is gone");
            if let Some((_, answer)) = line.trim_end().split_once("answer: ") {
                return answer.to_owned();
            }
        }
    }

    /// Waits for one more answer, which must be this.
    pub fn answer(&mut self, expected: &str) {
        assert_eq!(self.next(), expected);
    }

    /// Gives an order that must succeed.
    pub fn tell(&mut self, order: &str) {
        assert_eq!(self.ask(order), "ok", "{order}");
    }

    /// Its process.
    pub fn pid(&self) -> u32 {
        self.process.id()
    }
}

impl Drop for Actor {
    fn drop(&mut self) {
        // A child of this test's own.
        let _ = self.process.kill();
        let _ = self.process.wait();
    }
}

#[test]
fn the_part_is_played() {
    if std::env::var_os(PART).is_none() {
        let mut nothing = Stage::default();
        assert_eq!(nothing.obey("dance"), Err("`dance`?".into()));
        assert!(nothing.obey("listen").is_err(), "there is no socket");
        return;
    }
    if let Ok(end) = std::env::var(END) {
        return live_shortly(end.parse().expect("an address"));
    }
    let mut stage = Stage::default();
    if let Ok(descriptor) = std::env::var("TIPSTAFF_TEST_SOCKET") {
        stage.socket = Some(adopt(descriptor.parse().expect("a number")));
    }
    for order in std::io::stdin().lock().lines() {
        let answer = stage.obey(&order.expect("an order")).unwrap_or_else(|it| it);
        println!("answer: {answer}");
        std::io::stdout().flush().expect("heard");
    }
}

const END: &str = "TIPSTAFF_TEST_END";
const NEXT: &str = "TIPSTAFF_TEST_NEXT";

/// A process that says to `end` which program it runs, and is gone; if there is a `next` program,
/// it becomes that first.
pub fn short_life(program: &Path, next: Option<&Path>, end: SocketAddr) {
    let mut command = Command::new(program);
    command.args(["actor::the_part_is_played", "--exact", "--nocapture", "--test-threads=1"]);
    command.env(PART, "yes").env(END, end.to_string()).stdout(Stdio::null());
    if let Some(next) = next {
        command.env(NEXT, next);
    }
    assert!(command.status().expect("it starts").success());
}

fn live_shortly(end: SocketAddr) {
    if let Some(next) = std::env::var_os(NEXT) {
        let mut command = Command::new(next);
        command.args(std::env::args().skip(1)).env_remove(NEXT);
        panic!("{}", command.exec());
    }
    let program = std::env::current_exe().expect("the program");
    let name = program.file_name().expect("a name").to_owned();
    let socket = socket(AddressFamily::INET, SocketType::DGRAM, None).expect("a socket");
    // Whether it gets out is for others to see.
    let _ = sendto(&socket, name.as_encoded_bytes(), SendFlags::empty(), &end);
}

#[allow(unsafe_code)]
fn adopt(descriptor: i32) -> OwnedFd {
    // SAFETY: whoever started this process left the descriptor open for it.
    unsafe { OwnedFd::from_raw_fd(descriptor) }
}

#[derive(Default)]
struct Stage {
    socket: Option<OwnedFd>,
    /// Sockets that have served.
    kept: Vec<OwnedFd>,
}

impl Stage {
    fn obey(&mut self, order: &str) -> Result<String, String> {
        let words: Vec<&str> = order.split(' ').collect();
        let socket = || self.socket.as_ref().ok_or("no socket");
        let address = |text: &str| text.parse::<SocketAddr>().map_err(|it| it.to_string());
        let failed = |error: rustix::io::Errno| error.to_string();
        match words[..] {
            ["make", protocol, family] => {
                let kind = if protocol == "udp" { SocketType::DGRAM } else { SocketType::STREAM };
                let number = if protocol == "mptcp" { Some(MULTIPATH_TCP) } else { None };
                let family = if family == "4" { AddressFamily::INET } else { AddressFamily::INET6 };
                let made = socket_of(family, kind, number).map_err(failed)?;
                self.kept.extend(self.socket.replace(made));
            }
            ["bind", to] => bind(socket()?, &address(to)?).map_err(failed)?,
            ["listen"] => listen(socket()?, 64).map_err(failed)?,
            ["connect", to] => connect(socket()?, &address(to)?).map_err(failed)?,
            ["name"] => {
                rustix::net::getsockname(socket()?).map_err(failed)?;
            }
            // Is started anew as another user, without sockets.
            ["run-as", user] => {
                let mut command =
                    Command::new(std::env::current_exe().map_err(|it| it.to_string())?);
                command.args(std::env::args().skip(1));
                command.uid(user.parse().map_err(|_| "a number")?);
                println!("answer: ok");
                return Err(command.exec().to_string());
            }
            // Goes on as another user, with what it has.
            ["act-as", user] => {
                let user = Uid::from_raw(user.parse().map_err(|_| "a number")?);
                rustix::thread::set_thread_res_uid(user, user, user).map_err(failed)?;
            }
            ["mark", number] => self.marks(number, None)?,
            ["mark", number, "of", length] => self.marks(number, Some(length))?,
            ["echo"] => self.echoes()?,
            ["accept"] => self.accepts()?,
            ["become" | "await" | "hand", _] => self.hands_over(words[0], words[1])?,
            ["make-by-ring", protocol, family] => {
                let made = ring::make(protocol == "udp", family == "4");
                self.socket = Some(made.map_err(|it| it.to_string())?);
            }
            ["mark-by-ring", number] => {
                let number = number.parse().map_err(|_| "a number")?;
                ring::set_mark(socket()?.as_fd(), number).map_err(|it| it.to_string())?;
            }
            // From now on others may have its port too, if they say the same.
            ["share"] => {
                rustix::net::sockopt::set_socket_reuseport(socket()?, true).map_err(failed)?;
            }
            ["read-mark"] => {
                let mark = mark(socket()?.as_fd()).map_err(|it| it.to_string())?;
                return Ok(format!("{mark:#010x}"));
            }
            // Takes one connection, and says what mark it has.
            ["take"] => {
                let taken = rustix::net::accept(socket()?).map_err(failed)?;
                let mark = mark(taken.as_fd()).map_err(|it| it.to_string())?;
                self.kept.push(taken);
                return Ok(format!("{mark:#010x}"));
            }
            // Closes what was taken.
            ["close"] => self.kept.clear(),
            ["hear"] => return Ok(self.heard()),
            // A question to somebody who echoes.
            ["ask", to] => {
                let bytes = b"question";
                sendto(socket()?, bytes, SendFlags::empty(), &address(to)?).map_err(failed)?;
                return Ok(self.heard());
            }
            _ => return Err(format!("`{order}`?")),
        }
        Ok("ok".into())
    }

    fn socket(&self) -> Result<&OwnedFd, String> {
        self.socket.as_ref().ok_or_else(|| "no socket".into())
    }

    /// Gives the socket a mark, by an option of some length.
    fn marks(&self, number: &str, length: Option<&str>) -> Result<(), String> {
        let number = number.parse().map_err(|_| "a number")?;
        let socket = self.socket()?.as_fd();
        let done = match length {
            Some(length) => {
                set_mark_at_length(socket, number, length.parse().map_err(|_| "a length")?)
            }
            None => set_mark(socket, number),
        };
        done.map_err(|it| it.to_string())
    }

    /// Waits for connections in the background.
    fn accepts(&self) -> Result<(), String> {
        let socket = self.socket()?.try_clone().map_err(|it| it.to_string())?;
        std::thread::spawn(move || {
            let mut all = Vec::new();
            while let Ok(one) = rustix::net::accept(&socket) {
                all.push(one);
            }
        });
        // Until it waits in the call.
        std::thread::sleep(Duration::from_millis(100));
        Ok(())
    }

    /// Answers datagrams in the background.
    fn echoes(&self) -> Result<(), String> {
        let socket = self.socket()?.try_clone().map_err(|it| it.to_string())?;
        std::thread::spawn(move || {
            let mut bytes = [0; 64];
            while let Ok((_, length, from)) = recvfrom(&socket, &mut bytes, RecvFlags::empty()) {
                if let Some(from) = from {
                    let _ = sendto(&socket, &bytes[..length], SendFlags::empty(), &from);
                }
            }
        });
        Ok(())
    }

    /// Gives the socket to somebody else, or gets one.
    fn hands_over(&mut self, how: &str, to: &str) -> Result<(), String> {
        let failed = |error: rustix::io::Errno| error.to_string();
        match how {
            // Goes on as another program, which has the socket.
            "become" => {
                fcntl_setfd(self.socket()?, FdFlags::empty()).map_err(failed)?;
                let number = self.socket()?.as_raw_fd().to_string();
                let mut command = Command::new(to);
                command.args(std::env::args().skip(1)).env("TIPSTAFF_TEST_SOCKET", number);
                println!("answer: ok");
                return Err(command.exec().to_string());
            }
            // Waits for a socket that somebody hands over there.
            "await" => {
                let listener = UnixListener::bind(to).map_err(|it| it.to_string())?;
                println!("answer: ok");
                let (stream, _) = listener.accept().map_err(|it| it.to_string())?;
                self.socket = Some(take(&stream).ok_or("nothing was handed over")?);
            }
            _ => {
                let stream = UnixStream::connect(to).map_err(|it| it.to_string())?;
                give(&stream, self.socket()?).map_err(failed)?;
            }
        }
        Ok(())
    }

    /// Whether an answer comes within a while.
    fn heard(&self) -> String {
        let Some(socket) = &self.socket else { return "no socket".into() };
        let patience = Some(Duration::from_millis(250));
        let kind = rustix::net::sockopt::Timeout::Recv;
        rustix::net::sockopt::set_socket_timeout(socket, kind, patience).expect("set");
        let mut bytes = [0; 64];
        match recv(socket, &mut bytes, RecvFlags::empty()) {
            Ok(_) => "heard".into(),
            Err(error) => error.to_string(),
        }
    }
}

/// Several TCP connections as one (RFC 8684), `IPPROTO_MPTCP`.
const MULTIPATH_TCP: Protocol =
    Protocol::from_raw(std::num::NonZeroU32::new(262).expect("not zero"));

fn socket_of(
    family: AddressFamily,
    kind: SocketType,
    protocol: Option<Protocol>,
) -> rustix::io::Result<OwnedFd> {
    let made = socket(family, kind, protocol)?;
    set_socket_reuseaddr(&made, true)?;
    // Nobody waits for ever.
    let patience = Some(Duration::from_millis(250));
    let timeout = rustix::net::sockopt::Timeout::Send;
    rustix::net::sockopt::set_socket_timeout(&made, timeout, patience)?;
    Ok(made)
}

fn give(stream: &UnixStream, socket: &OwnedFd) -> rustix::io::Result<()> {
    let mut space = [std::mem::MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(1))];
    let mut control = SendAncillaryBuffer::new(&mut space);
    let handed = [socket.as_fd()];
    assert!(control.push(SendAncillaryMessage::ScmRights(&handed)));
    sendmsg(stream, &[IoSlice::new(b"!")], &mut control, SendFlags::empty()).map(drop)
}

fn take(stream: &UnixStream) -> Option<OwnedFd> {
    let mut space = [std::mem::MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(1))];
    let mut control = RecvAncillaryBuffer::new(&mut space);
    let mut bytes = [0; 1];
    recvmsg(stream, &mut [IoSliceMut::new(&mut bytes)], &mut control, RecvFlags::empty()).ok()?;
    control.drain().find_map(|message| match message {
        RecvAncillaryMessage::ScmRights(mut handed) => handed.next(),
        _ => None,
    })
}
