//! Speaking with a store over HTTPS. A process of its own does it, without privileges: a line with a request, a line with
//! the answer.

use super::lines::{LONGEST, Lines};
use crate::{nobody, tls};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::io::{self, BufRead, Write};
use std::path::PathBuf;
use std::process::Command;
use std::time::Duration;

/// How long a member of the store may take to answer.
const PATIENCE: Duration = Duration::from_secs(5);

/// Where a store is, and how it is spoken to.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Store {
    /// Its members, such as `https://10.44.8.20:2379`: the first that answers is asked.
    pub members: Vec<String>,
    /// The file of certificates by which it is known.
    pub ca: Option<PathBuf>,
    /// The own certificate, and its key.
    pub own: Option<(PathBuf, PathBuf)>,
}

#[derive(Debug, Serialize, Deserialize)]
struct Request {
    path: String,
    body: Value,
}

/// What came of a request.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Answer {
    Body(Value),
    Failed(String),
}

/// A conversation with a store.
#[derive(Debug)]
pub(super) struct Talk(Lines);

impl Talk {
    /// Begins one: a connection of its own.
    pub(super) fn begin(store: &Store) -> Result<Self, String> {
        // Not by the file's name: something else may lie over that by now.
        let mut command = Command::new("/proc/self/exe");
        command.arg("carry");
        let mut lines = Lines::begin(command)?;
        lines.send(store)?;
        Ok(Self(lines))
    }

    /// Asks, and gives what is answered.
    pub(super) fn ask(&mut self, path: &str, body: Value) -> Result<Value, String> {
        match self.0.ask(&Request { path: path.to_owned(), body })? {
            Answer::Body(body) => Ok(body),
            Answer::Failed(why) => Err(why),
        }
    }
}

/// The process that speaks: reads where the store is, and then requests, until nobody asks any more.
///
/// # Errors
/// The system's, if an answer cannot be handed over.
pub fn carry(from: impl BufRead, to: &mut dyn Write) -> io::Result<()> {
    let mut lines = from.lines();
    let Some(first) = lines.next() else { return Ok(()) };
    let store: Result<Store, _> = serde_json::from_str(&first?);
    let speaking = store.map_err(|error| error.to_string()).and_then(Speaking::begin);
    for line in lines {
        let line = line?;
        let answer = match &speaking {
            Ok(speaking) => speaking.answer(&line),
            Err(why) => Answer::Failed(why.clone()),
        };
        serde_json::to_writer(&mut *to, &answer)?;
        to.write_all(b"\n")?;
        to.flush()?;
    }
    Ok(())
}

struct Speaking {
    agent: ureq::Agent,
    members: Vec<String>,
}

impl Speaking {
    fn begin(store: Store) -> Result<Self, String> {
        let own = store.own.as_ref().map(|(certificate, key)| (&**certificate, &**key));
        let is_plain = store.members.iter().all(|it| it.starts_with("http:"));
        let mut config = ureq::Agent::config_builder()
            .https_only(!is_plain)
            .max_redirects(0)
            .timeout_global(Some(PATIENCE))
            .http_status_as_error(false)
            .proxy(None)
            .user_agent("tipstaff");
        if !is_plain {
            config = config.tls_config(tls::for_store(store.ca.as_deref(), own)?);
        }
        let agent = config.build().into();
        // Before the first word from outside is heard.
        nobody::give_up_privileges()
            .map_err(|it| format!("cannot be spoken to without privileges: {it}"))?;
        Ok(Self { agent, members: store.members })
    }

    fn answer(&self, line: &str) -> Answer {
        let request: Request = match serde_json::from_str(line) {
            Ok(request) => request,
            Err(error) => return Answer::Failed(error.to_string()),
        };
        let mut told = Vec::new();
        for member in &self.members {
            match self.ask(member, &request) {
                Ok(body) => return Answer::Body(body),
                Err(why) => told.push(format!("{member}: {why}")),
            }
        }
        Answer::Failed(told.join("; "))
    }

    fn ask(&self, member: &str, request: &Request) -> Result<Value, String> {
        let body = request.body.to_string();
        let sent = self.agent.post(format!("{member}{}", request.path));
        let sent = sent.header("content-type", "application/json").send(body.as_bytes());
        let mut response = sent.map_err(|error| error.to_string())?;
        let status = response.status().as_u16();
        let read = response.body_mut().with_config().limit(LONGEST).read_to_vec();
        let read = read.map_err(|error| error.to_string())?;
        let value: Value = serde_json::from_slice(&read)
            .map_err(|_| format!("it answers {status}, and not as a store does"))?;
        match status {
            200 => Ok(value),
            _ => {
                let why =
                    value.get("error").or_else(|| value.get("message")).and_then(Value::as_str);
                Err(format!("it answers {status}: {}", why.unwrap_or("nothing else")))
            }
        }
    }
}
