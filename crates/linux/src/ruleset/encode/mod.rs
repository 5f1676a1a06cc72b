//! A rule program to one batch of netlink messages.

mod carried;
mod conditions;
mod encoder;
mod expressions;
mod limiters;
mod naming;
mod parts;
mod programs;
mod record;
mod relations;
mod remembering;
mod rules;
mod sets;
mod sheet;

pub(crate) use carried::Before;
pub(crate) use limiters::LIMITS;
pub(crate) use parts::{ChainPart, Parts, RulePart, SetPart};
pub use rules::encode;
pub(crate) use rules::{encode_into, parts};
