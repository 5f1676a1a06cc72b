//! The system's journal, in its native protocol (systemd's "Native Journal Protocol").

use super::item::{Item, Taker, parts, sentence, severity};
use std::io;
use std::os::unix::net::UnixDatagram;

/// Where it listens.
const SOCKET: &str = "/run/systemd/journal/socket";

/// The journal.
#[derive(Default)]
pub(super) struct Journal {
    socket: Option<UnixDatagram>,
    /// How many of the lot have been taken.
    taken: usize,
}

impl Taker for Journal {
    fn take(&mut self, items: &[Item]) -> io::Result<()> {
        if self.socket.is_none() {
            let socket = UnixDatagram::unbound()?;
            socket.connect(SOCKET)?;
            self.socket = Some(socket);
        }
        let Some(socket) = &self.socket else { return Ok(()) };
        for item in items.iter().skip(self.taken) {
            if let Err(error) = socket.send(&entry(item)) {
                self.socket = None;
                return Err(error);
            }
            self.taken += 1;
        }
        self.taken = 0;
        Ok(())
    }
}

fn entry(item: &Item) -> Vec<u8> {
    let mut entry = Vec::new();
    field(&mut entry, "MESSAGE", &sentence(item));
    field(&mut entry, "PRIORITY", &severity(item).to_string());
    field(&mut entry, "SYSLOG_IDENTIFIER", "tipstaff");
    for (name, value) in parts(item) {
        field(&mut entry, &format!("TIPSTAFF_{}", name.to_ascii_uppercase()), &value);
    }
    entry
}

/// A field; one whose value has a line end is told with its length.
fn field(entry: &mut Vec<u8>, name: &str, value: &str) {
    entry.extend(name.as_bytes());
    if value.contains('\n') {
        entry.push(b'\n');
        entry.extend((value.len() as u64).to_le_bytes());
    } else {
        entry.push(b'=');
    }
    entry.extend(value.as_bytes());
    entry.push(b'\n');
}

#[cfg(test)]
mod tests {
    use super::field;

    #[test]
    fn no_value_can_end_a_field() {
        let mut entry = Vec::new();
        field(&mut entry, "A", "b");
        field(&mut entry, "C", "d\ne");
        assert_eq!(entry, b"A=b\nC\n\x03\0\0\0\0\0\0\0d\ne\n");
    }
}
