//! Small programs that listen, so that the example's hosts have something to reach.

use crate::commands::Output;
use std::io::Write;
use std::net::{TcpListener, UdpSocket};
use tipstaff_app::Failure;

const GREETING: &[u8] = b"a stand-in of the Tidewater Seed Library\n";
const V4: &str = "0.0.0.0";
/// Takes IPv4 too, as is usual on Linux.
const BOTH: &str = "::";

/// Listens as the words say until it is ended.
///
/// # Errors
/// [`Failure`] if a word is not understood or a port cannot be had.
pub fn run(words: &[String]) -> Result<Output, Failure> {
    let mut threads = Vec::new();
    for word in words {
        threads.push(listen(word)?);
    }
    // One line says that all ports are open.
    println!("ready");
    for thread in threads {
        // Ends only if the thread panicked; the others go on.
        let _ = thread.join();
    }
    Ok(Output::silent())
}

fn listen(word: &str) -> Result<std::thread::JoinHandle<()>, Failure> {
    let unclear =
        || Failure::usage(format!("`{word}` says no port to listen on"), "such as tcp:80");
    let (kind, port) = word.split_once(':').ok_or_else(unclear)?;
    let port: u16 = port.parse().map_err(|_| unclear())?;
    let taken = |source: std::io::Error| Failure::System {
        message: format!("cannot listen on {word}: {source}"),
        help: Vec::new(),
    };
    Ok(match kind {
        "tcp" | "tcp4" => {
            let address = if kind == "tcp" { BOTH } else { V4 };
            let listener = TcpListener::bind((address, port)).map_err(taken)?;
            std::thread::spawn(move || serve_tcp(&listener))
        }
        "udp" | "udp4" => {
            let address = if kind == "udp" { BOTH } else { V4 };
            let socket = UdpSocket::bind((address, port)).map_err(taken)?;
            std::thread::spawn(move || serve_udp(&socket))
        }
        _ => return Err(unclear()),
    })
}

fn serve_tcp(listener: &TcpListener) {
    for mut caller in listener.incoming().flatten() {
        // A caller that hangs up at once is no trouble of ours.
        let _ = caller.write_all(GREETING);
    }
}

fn serve_udp(socket: &UdpSocket) {
    let mut datagram = [0; 2048];
    while let Ok((_, caller)) = socket.recv_from(&mut datagram) {
        let _ = socket.send_to(GREETING, caller);
    }
}
