//! Files of servers, over HTTPS. A process of its own speaks with them: it has no privileges, and hands over what it
//! was sent.

use super::said::{LARGEST, Said, text};
use crate::{nobody, tls};
use serde::{Deserialize, Serialize};
use std::io::{BufRead, Read, Write};
use std::process::{Command, Stdio};
use std::time::Duration;
use tipstaff_core::policy::Held;

/// How long a file may take, from the first word to the last byte.
const PATIENCE: Duration = Duration::from_secs(60);
/// So often a server may send us elsewhere.
const REDIRECTS: u32 = 5;
/// An answer's head is no longer.
const HEAD: u64 = 64 * 1024;

/// What is asked for.
#[derive(Debug, Serialize, Deserialize)]
struct Asked {
    url: String,
    tag: Option<String>,
    modified: Option<String>,
}

/// What came of it; behind it are the bytes.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Answer {
    Here { tag: Option<String>, modified: Option<String>, length: u64 },
    Same,
    Failed { why: String },
}

/// Has a file fetched.
pub(super) fn fetch(url: &str, held: Option<&Held>) -> Result<Said, String> {
    let asked = Asked {
        url: url.to_owned(),
        tag: held.and_then(|it| it.tag.clone()),
        modified: held.and_then(|it| it.modified.clone()),
    };
    let lost = |error: std::io::Error| format!("cannot be fetched: {error}");
    // Not by the file's name: something else may lie over that by now.
    let mut command = Command::new("/proc/self/exe");
    command.arg("fetch").stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null());
    let mut child = command.spawn().map_err(lost)?;
    let said = (|| {
        if let Some(mut to) = child.stdin.take() {
            serde_json::to_writer(&mut to, &asked).map_err(|it| it.to_string())?;
            to.write_all(b"\n").map_err(lost)?;
        }
        let from = child.stdout.take().ok_or("cannot be fetched")?;
        let mut from = std::io::BufReader::new(from);
        let mut head = Vec::new();
        (&mut from).take(HEAD).read_until(b'\n', &mut head).map_err(lost)?;
        let answer = serde_json::from_slice(&head);
        match answer
            .map_err(|_| "cannot be fetched: whoever was to do it fell silent".to_owned())?
        {
            Answer::Failed { why } => Err(why),
            Answer::Same => Ok(Said::Same),
            Answer::Here { tag, modified, length } => {
                let mut bytes = Vec::new();
                from.take(LARGEST + 1).read_to_end(&mut bytes).map_err(lost)?;
                if bytes.len() as u64 != length {
                    return Err("was cut off on the way".into());
                }
                let one_line = |it: Option<String>| it.filter(|it| !it.contains(char::is_control));
                let (tag, modified) = (one_line(tag), one_line(modified));
                let held = Held { file: url.to_owned(), tag, modified };
                Ok(Said::Text(text(bytes)?, Some(held)))
            }
        }
    })();
    let _ = child.kill();
    let _ = child.wait();
    said
}

/// The part of a refresh that speaks with servers: reads what is asked for, and hands over what it was sent.
///
/// # Errors
/// The system's, if that cannot be handed over.
pub fn lend(from: impl BufRead, to: &mut dyn Write) -> std::io::Result<()> {
    let mut line = Vec::new();
    from.take(HEAD).read_until(b'\n', &mut line)?;
    let (answer, bytes) =
        match serde_json::from_slice(&line).map_err(|it| it.to_string()).and_then(|it| got(&it)) {
            Ok(found) => found,
            Err(why) => (Answer::Failed { why }, Vec::new()),
        };
    serde_json::to_writer(&mut *to, &answer)?;
    to.write_all(b"\n")?;
    to.write_all(&bytes)?;
    to.flush()
}

fn got(asked: &Asked) -> Result<(Answer, Vec<u8>), String> {
    let agent = agent()?;
    // Before the first word from outside is heard.
    nobody::give_up_privileges()
        .map_err(|it| format!("cannot be fetched without privileges: {it}"))?;
    // No other form than the plain one: what unpacks to more than it seems is not unpacked.
    let mut request = agent.get(&asked.url).header("accept-encoding", "identity");
    if let Some(tag) = &asked.tag {
        request = request.header("if-none-match", tag);
    }
    if let Some(modified) = &asked.modified {
        request = request.header("if-modified-since", modified);
    }
    let failed = |error: ureq::Error| format!("cannot be fetched: {error}");
    let mut response = request.call().map_err(failed)?;
    match response.status().as_u16() {
        200 => {}
        304 if asked.tag.is_some() || asked.modified.is_some() => {
            return Ok((Answer::Same, Vec::new()));
        }
        other => return Err(format!("cannot be fetched: the server answers {other}")),
    }
    let value = |name: &str| Some(response.headers().get(name)?.to_str().ok()?.to_owned());
    let (tag, modified) = (value("etag"), value("last-modified"));
    if value("content-encoding").is_some_and(|it| it != "identity") {
        return Err("cannot be read: the server sends it packed, though asked not to".into());
    }
    let read = response.body_mut().with_config().limit(LARGEST).read_to_vec();
    let bytes = read.map_err(|error| match error {
        ureq::Error::BodyExceedsLimit(_) => {
            format!("is larger than {} MiB", LARGEST / (1024 * 1024))
        }
        other => failed(other),
    })?;
    Ok((Answer::Here { tag, modified, length: bytes.len() as u64 }, bytes))
}

/// Who speaks with servers: over HTTPS only, wherever they send us.
fn agent() -> Result<ureq::Agent, String> {
    let config = ureq::Agent::config_builder()
        .https_only(true)
        .max_redirects(REDIRECTS)
        .timeout_global(Some(PATIENCE))
        .http_status_as_error(false)
        .tls_config(tls::for_web()?)
        .user_agent("tipstaff")
        .build();
    Ok(config.into())
}
