//! Collectors of OpenTelemetry: logs as JSON over HTTP (OTLP/HTTP, opentelemetry-proto `ExportLogsServiceRequest`).

use super::item::{Item, Taker, parts, sentence, severity};
use crate::tls;
use jiff::Timestamp;
use serde_json::{Value, json};
use std::io;
use std::time::Duration;

/// Where logs go if the URL says nothing else.
const LOGS: &str = "/v1/logs";

/// Reads a collector's URL.
pub(super) fn url(text: &str) -> Result<String, String> {
    let rest = text.strip_prefix("http://").or_else(|| text.strip_prefix("https://"));
    let Some(rest) = rest else {
        return Err(
            "expected a URL such as http://127.0.0.1:4318 or https://collector.example".into()
        );
    };
    if rest.is_empty() || rest.starts_with('/') || rest.contains(char::is_whitespace) {
        return Err("expected a URL such as http://127.0.0.1:4318".into());
    }
    Ok(if rest.trim_end_matches('/').contains('/') {
        text.to_owned()
    } else {
        format!("{}{LOGS}", text.trim_end_matches('/'))
    })
}

/// A collector.
pub(super) struct Otlp {
    url: String,
    host: String,
    agent: ureq::Agent,
}

impl Otlp {
    /// # Errors
    /// Why TLS cannot be spoken, if it is to be.
    pub(super) fn new(url: String, host: &str, patience: Duration) -> Result<Self, String> {
        // A collector that sends somebody elsewhere is not the one that was named.
        let mut config =
            ureq::Agent::config_builder().timeout_global(Some(patience)).max_redirects(0);
        if url.starts_with("https://") {
            config = config.tls_config(tls::for_web()?);
        }
        Ok(Self { url, host: host.to_owned(), agent: config.build().into() })
    }
}

impl Taker for Otlp {
    fn take(&mut self, items: &[Item]) -> io::Result<()> {
        let body = request(items, &self.host).to_string();
        let request = self.agent.post(&self.url).header("content-type", "application/json");
        match request.send(body) {
            Ok(_) => Ok(()),
            Err(error) => Err(io::Error::other(error)),
        }
    }
}

fn request(items: &[Item], host: &str) -> Value {
    let text = |value: &str| json!({ "stringValue": value });
    let records: Vec<Value> = items
        .iter()
        .map(|item| {
            let now = Timestamp::now();
            let time = match item {
                Item::Decision(it) => it.time.parse().unwrap_or(now),
                Item::Missed(_) => now,
            };
            let attributes: Vec<Value> = parts(item)
                .into_iter()
                .map(|(name, value)| json!({ "key": format!("tipstaff.{name}"), "value": text(&value) }))
                .collect();
            // Severity numbers of the log data model: 9 is INFO, 10 INFO2, 13 WARN.
            let (number, word) = match severity(item) {
                4 => (13, "WARN"),
                5 => (10, "INFO2"),
                _ => (9, "INFO"),
            };
            json!({
                "timeUnixNano": time.as_nanosecond().to_string(),
                "observedTimeUnixNano": now.as_nanosecond().to_string(),
                "severityNumber": number,
                "severityText": word,
                "body": text(&sentence(item)),
                "attributes": attributes,
            })
        })
        .collect();
    json!({ "resourceLogs": [{
        "resource": { "attributes": [
            { "key": "service.name", "value": text("tipstaff") },
            { "key": "host.name", "value": text(host) },
        ] },
        "scopeLogs": [{
            "scope": { "name": "tipstaff", "version": env!("CARGO_PKG_VERSION") },
            "logRecords": records,
        }],
    }] })
}

#[cfg(test)]
mod tests {
    use super::url;

    #[test]
    fn urls_are_read_as_they_are_typed() {
        let logs = Ok("http://127.0.0.1:4318/v1/logs".to_owned());
        assert_eq!(url("http://127.0.0.1:4318"), logs);
        assert_eq!(url("http://127.0.0.1:4318/"), logs);
        assert_eq!(url("https://c.example"), Ok("https://c.example/v1/logs".to_owned()));
        assert_eq!(url("http://c.example/x"), Ok("http://c.example/x".to_owned()));
        for wrong in
            ["", "127.0.0.1:4318", "ftp://c.example", "http://", "https:///v1", "http://a b"]
        {
            assert!(url(wrong).is_err(), "{wrong}");
        }
    }
}
