//! The programs that tell whose a socket is.
//!
//! Each looks up the file that the running process executes, by device, inode number and inode
//! generation, and the user as whom it acts (`cred.fsuid`), if rules name users; and keeps what it
//! finds in some bits of the socket's mark, which the packet filter compares. The bits outside
//! [`Recogniser::mask`] are never touched.
//!
//! Source: `linux/bpf.h` for the contexts (`bpf_sock`, `bpf_sock_addr`, `bpf_sockopt`); the rest
//! by the kernel's own description of its types.

mod files;
mod lookup;
mod offsets;
mod sockets;
mod table;

pub use files::{OpenFile, open_files};
pub use offsets::Offsets;
pub use sockets::Recogniser;
pub use table::{Identity, Owner, Standing, Table, standing_of};
