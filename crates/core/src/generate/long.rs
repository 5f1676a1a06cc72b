//! Long policies, made up from a seed.

use super::policies::{Generator, HOST, HOST_NAME};
use std::fmt::Write;

impl Generator {
    /// A policy of the host [`HOST_NAME`] with so many rules that look like those of real hosts:
    /// services for everybody, services for single machines and networks, some ranges, a few
    /// denials; both IP versions.
    pub fn long_policy(&mut self, rules: usize) -> String {
        let addresses: Vec<String> = HOST.iter().map(|it| format!("\"{it}\"")).collect();
        let mut text =
            format!("edition = 1\n[host.{HOST_NAME}]\naddresses = [{}]\n", addresses.join(", "));
        for number in 0..rules {
            let verdict = if self.one_in(10) { "deny" } else { "allow" };
            let protocol = self.pick(&["tcp", "tcp", "tcp", "udp", "tcp+udp"]);
            let port = 1 + self.below(60_000);
            let ports =
                if self.one_in(10) { format!("{port}-{}", port + 100) } else { port.to_string() };
            let (high, low) = (self.below(256), 1 + self.below(254));
            let from = match self.below(10) {
                0 => String::new(),
                1 => format!("from = [\"10.{high}.{low}.0/24\"]\n"),
                2 => format!("from = [\"10.{high}.{low}.16-10.{high}.{low}.31\"]\n"),
                3 => format!("from = [\"fd44:{high:x}:{low:x}::/64\"]\n"),
                4 => format!("from = [\"10.{high}.8.{low}\", \"fd44:8::{high:x}:{low:x}\"]\n"),
                _ => format!("from = [\"10.{high}.8.{low}\"]\n"),
            };
            let _ = write!(
                text,
                "[[host.{HOST_NAME}.rule]]\nname = \"rule-{number}\"\n\
                 {verdict} = [\"{ports}/{protocol}\"]\n{from}"
            );
        }
        text
    }

    /// A policy of the host [`HOST_NAME`] with so many rules that resembles what administrators
    /// pile up: a few services for everybody, senders that are to be kept out, and many rules for
    /// networks inside networks, down to single machines, with exceptions above them; a few ports
    /// are used over and over; both IP versions.
    pub fn grown_policy(&mut self, rules: usize) -> String {
        const POPULAR: [&str; 12] = [
            "22/tcp",
            "443/tcp",
            "80/tcp",
            "5432/tcp",
            "53/tcp+udp",
            "9100/tcp",
            "3306/tcp",
            "8080-8089/tcp",
            "123/udp",
            "5353/udp",
            "2202/tcp",
            "445/tcp",
        ];
        let addresses: Vec<String> = HOST.iter().map(|it| format!("\"{it}\"")).collect();
        let mut text =
            format!("edition = 1\n[host.{HOST_NAME}]\naddresses = [{}]\n", addresses.join(", "));
        for number in 0..rules {
            let port = match self.below(10) {
                0..=5 => (*self.pick(&POPULAR)).to_owned(),
                6..=8 => format!("{}/tcp", 1 + self.below(60_000)),
                _ => format!("{}/udp", 1 + self.below(60_000)),
            };
            let (verdict, traffic, from) = match self.below(100) {
                0..=1 => ("allow", port, None),
                2..=9 => ("deny", "any".to_owned(), Some(self.network())),
                10..=19 => ("deny", port, Some(self.network())),
                20..=21 => ("reject", port, Some(self.network())),
                22 => ("allow", "icmp".to_owned(), Some(self.network())),
                23 => ("allow", "any".to_owned(), Some(self.network())),
                _ => ("allow", port, Some(self.network())),
            };
            let _ = write!(
                text,
                "[[host.{HOST_NAME}.rule]]\nname = \"rule-{number}\"\n{verdict} = [\"{traffic}\"]\n"
            );
            if let Some(from) = from {
                let _ = writeln!(text, "from = [{from}]");
            }
            if self.one_in(20) {
                let _ = writeln!(text, "to = [\"{}\", \"{}\"]", HOST[0], HOST[2]);
            }
            if self.one_in(25) {
                let _ = writeln!(text, "ingress = [\"eth{}\"]", self.below(2));
            }
        }
        text
    }

    /// A network of an organisation, or one inside it, or a machine there.
    fn network(&mut self) -> String {
        let (site, part, machine) = (self.below(64), self.below(256), 1 + self.below(254));
        match self.below(20) {
            0 => format!("\"10.{site}.0.0/16\", \"fd44:{site:x}::/32\""),
            1..=4 => format!("\"10.{site}.{part}.0/24\", \"fd44:{site:x}:{part:x}::/48\""),
            5 => format!("\"10.{site}.{part}.64-10.{site}.{part}.95\""),
            6..=7 => format!("\"fd44:{site:x}:{part:x}:{machine:x}::/64\""),
            8 => format!("\"203.0.{part}.0/24\""),
            9 => format!("\"10.{site}.{part}.{machine}\", \"fd44:{site:x}:{part:x}::{machine:x}\""),
            _ => format!("\"10.{site}.{part}.{machine}\""),
        }
    }

    /// A policy of the host [`HOST_NAME`] with so many rules, each for one sender and one port.
    pub fn policy_of_points(&mut self, rules: usize) -> String {
        let mut text = format!("edition = 1\n[host.{HOST_NAME}]\naddresses = [\"{}\"]\n", HOST[0]);
        for number in 0..rules {
            let protocol = self.pick(&["tcp", "udp"]);
            let port = 1 + self.below(60_000);
            let (high, middle, low) = (self.below(256), self.below(256), self.below(256));
            let _ = write!(
                text,
                "[[host.{HOST_NAME}.rule]]\nname = \"rule-{number}\"\n\
                 allow = [\"{port}/{protocol}\"]\nfrom = [\"10.{high}.{middle}.{low}\"]\n"
            );
        }
        text
    }
}
