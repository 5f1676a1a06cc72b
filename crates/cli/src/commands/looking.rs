//! From where a host is looked at, as options.

use super::span::span;
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
    /// How long a probe waits for an answer, in seconds or such as 500ms
    #[arg(long, value_name = "TIME", default_value = "1", value_parser = patience)]
    pub patience: Duration,
}

impl Looking {
    /// All of them.
    pub fn vantages(&self) -> Vec<Vantage> {
        self.vantage.iter().chain(&self.vantage_command).cloned().collect()
    }
}

fn patience(text: &str) -> Result<Duration, String> {
    let known = Duration::from_millis(10)..=Duration::from_secs(60);
    span(text)
        .ok()
        .filter(|it| known.contains(it))
        .ok_or_else(|| "expected a time from 0.01 seconds to a minute".into())
}
