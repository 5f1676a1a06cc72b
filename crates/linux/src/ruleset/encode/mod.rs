//! A rule program to one batch of netlink messages.

mod carried;
mod conditions;
mod encoder;
mod expressions;
mod limiters;
mod programs;
mod record;
mod relations;
mod remembering;
mod rules;
mod sets;

pub(crate) use carried::Before;
pub(crate) use encoder::Changeable;
pub use rules::encode;
pub(crate) use rules::{encode_into, skeleton};
