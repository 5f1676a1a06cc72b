//! Which way packets go, as an option.

use clap::ValueEnum;
use tipstaff_core::space::Direction;

/// Which way packets go.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub enum DirectionWord {
    Inbound,
    Outbound,
    Forwarded,
}

impl DirectionWord {
    /// As the core has it.
    pub fn direction(self) -> Direction {
        match self {
            Self::Inbound => Direction::Inbound,
            Self::Outbound => Direction::Outbound,
            Self::Forwarded => Direction::Forwarded,
        }
    }
}
