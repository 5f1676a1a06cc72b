//! Bytes and values of the kernel's protocols, both ways.
//!
//! This crate opens no socket and knows no policy: names are the kernel's. The three mistakes
//! that netlink code is prone to cannot be written here: byte order is part of each method's
//! name, nesting and padding exist in one place ([`Writer`]), and a length that does not fit is
//! an error rather than a cast. Decoders read through [`Attributes`], which hands out only what
//! is there; attributes that are not known are kept or passed over, never misread.

#![forbid(unsafe_code)]
#![warn(unreachable_pub)]

pub mod bpf;
pub mod conntrack;
mod error;
pub mod gateway;
pub mod netlink;
pub mod nf_tables;
pub mod nflog;
pub mod packet;
mod reader;
pub mod route;
pub mod routing_rule;
pub mod sock_diag;
mod writer;

pub use error::WireError;
pub use reader::{Attribute, Attributes, Fields};
pub use writer::Writer;
