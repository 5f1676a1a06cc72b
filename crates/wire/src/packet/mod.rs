//! IP packets made by hand, for probing.

mod build;
mod parse;

pub use build::{Payload, build};
pub use parse::{Answer, Seen, parse};
