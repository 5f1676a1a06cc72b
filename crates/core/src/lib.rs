//! The core of Tipstaff: what a policy says and what it means for a packet.
//!
//! Everything here is computation on plain data. There is no file, socket, clock, environment
//! variable or terminal in this crate; facts about the outside are arguments.
//!
//! The flow is one way, one public function an arrow:
//!
//! ```text
//! text ─ policy::read ─▶ Policy ─ plan::resolve ─▶ HostPlan ─ program::lower ─▶ RuleProgram
//! ```
//!
//! Both [`plan::HostPlan`] and [`program::RuleProgram`] can be asked what happens to a
//! [`space::Packet`]; the two answers must agree.
#![warn(unreachable_pub)]

pub mod acl;
pub mod adopt;
pub mod analysis;
pub mod draft;
pub mod fnv;
#[cfg(feature = "generate")]
pub mod generate;
pub mod hands;
pub mod meaning;
pub mod plan;
pub mod policy;
pub mod program;
pub mod rehearsal;
pub mod restate;
pub mod space;
