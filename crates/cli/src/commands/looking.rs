//! From where a host is looked at, as options.

use clap::Args;
use std::time::Duration;
use tipstaff_app::reach::Vantage;

/// From where a host is looked at.
#[derive(Debug, Args)]
pub struct Looking {
    /// Send real probes from a machine at a place: PLACE=ssh://[USER@]HOST[:PORT], or from a network namespace: PLACE=netns:PATH
    #[arg(long, value_name = "PLACE=WAY", value_parser = Vantage::parse)]
    pub vantage: Vec<Vantage>,
    /// Likewise, by a command that gives a byte stream to `tipstaff vantage` there
    #[arg(long, value_name = "PLACE=COMMAND", value_parser = Vantage::parse_command)]
    pub vantage_command: Vec<Vantage>,
    /// How many seconds a probe waits for an answer
    #[arg(long, value_name = "SECONDS", default_value = "1", value_parser = seconds)]
    pub patience: Duration,
}

impl Looking {
    /// All of them.
    pub fn vantages(&self) -> Vec<Vantage> {
        self.vantage.iter().chain(&self.vantage_command).cloned().collect()
    }
}

fn seconds(text: &str) -> Result<Duration, String> {
    text.parse()
        .ok()
        .filter(|seconds| (0.01..=60.0).contains(seconds))
        .map(Duration::from_secs_f64)
        .ok_or_else(|| "expected a number of seconds from 0.01 to 60".into())
}
