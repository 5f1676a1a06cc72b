//! Programs for the kernel's own machine (eBPF), and the kernel's description of its types (BTF).
//!
//! [`Assembler`] makes the bytes of a program, [`Btf`] finds where the running kernel keeps a
//! field, and [`recognise`] holds the few programs that tell which program a socket belongs to.

mod assembler;
mod btf;
pub mod recognise;

pub use assembler::{Assembler, Helper, Label, Map, Register, Width};
pub use btf::Btf;
