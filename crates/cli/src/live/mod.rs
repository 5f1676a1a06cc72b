//! Decisions as they are made: line by line, or on a full screen.

mod alarm;
mod board;
mod draw;
mod hook;
mod keys;
mod lines;
mod rates;
mod window;

pub use alarm::Alarm;
pub use hook::Hook;
pub use lines::{Until, print};
pub use window::show;
