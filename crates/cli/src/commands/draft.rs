//! `draft`: a first policy.

use super::context::Context;
use super::output::Output;
use clap::Args;
use std::net::IpAddr;
use tipstaff_app::{Failure, draft};

/// Options of `draft`.
#[derive(Debug, Args)]
pub struct Draft {
    /// Make each rule one for the program that listens now, and no other; not the remote shell's
    #[arg(long)]
    pub programs: bool,
    /// Keep admitted whoever came as long as the kernel remembers it (`record = "all"`), not only who is connected
    #[arg(long)]
    pub from_record: bool,
    /// Add a posture in which nothing leaves but through this tunnel, and what proves it
    #[arg(long, value_name = "INTERFACE")]
    pub tunnel: Option<String>,
    /// The tunnel's far end, and what goes there, if that cannot be told from what this machine does now
    #[arg(long, value_names = ["ADDRESS", "TRAFFIC"], num_args = 2, requires = "tunnel")]
    pub endpoint: Option<Vec<String>>,
}

impl Draft {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let endpoint = match self.endpoint.as_deref() {
            Some([address, traffic]) => Some((endpoint_address(address)?, traffic.as_str())),
            _ => None,
        };
        let wanted = draft::Wanted {
            tunnel: self.tunnel.as_deref(),
            endpoint,
            host: context.host(),
            by_program: self.programs,
            from_record: self.from_record,
        };
        let report = draft::report(context.machine, &wanted)?;
        Ok(context.fine(&report, |it, _| it.policy.clone()))
    }
}

fn endpoint_address(text: &str) -> Result<IpAddr, Failure> {
    text.parse().map_err(|_| {
        let message = format!("`{}` is no address", text.escape_debug());
        Failure::usage(message, "--endpoint takes an address and traffic: 198.51.100.99 51820/udp")
    })
}
