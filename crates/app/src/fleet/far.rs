//! Speaking with a store over HTTPS. A process of its own does it, without privileges: a line with a request, a line with
//! the answer.

use super::lines::{LONGEST, Lines};
use crate::{nobody, tls};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::io::{self, BufRead, BufReader, Read, Write};
use std::path::PathBuf;
use std::process::Command;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

/// How long a member of the store may take to answer.
const PATIENCE: Duration = Duration::from_secs(5);

/// How long a connection is kept that nobody asks by.
const KEPT: Duration = Duration::from_secs(150);

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
    /// Whether it is answered by a line that says more than that it begins: after so many seconds, by what there is.
    #[serde(default)]
    stays: Option<u64>,
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
pub(super) struct Talk(Way);

#[derive(Debug)]
enum Way {
    /// With a process that speaks to it.
    Far(Lines),
    /// By this one: there are too many of them to have a process each.
    #[cfg(feature = "simulate")]
    Here(Speaking),
}

impl Talk {
    /// Begins one: a connection of its own.
    pub(super) fn begin(store: &Store) -> Result<Self, String> {
        #[cfg(feature = "simulate")]
        return Speaking::with(store.clone()).map(Way::Here).map(Self);
        #[cfg(not(feature = "simulate"))]
        Self::far(store)
    }

    #[cfg_attr(feature = "simulate", expect(dead_code, reason = "nobody is spoken to from afar"))]
    fn far(store: &Store) -> Result<Self, String> {
        // Not by the file's name: something else may lie over that by now.
        let mut command = Command::new("/proc/self/exe");
        command.arg("carry");
        let mut lines = Lines::begin(command)?;
        lines.send(store)?;
        Ok(Self(Way::Far(lines)))
    }

    /// Asks, and gives what is answered.
    pub(super) fn ask(&mut self, path: &str, body: Value) -> Result<Value, String> {
        let request = Request { path: path.to_owned(), body, stays: None };
        told(match &mut self.0 {
            Way::Far(lines) => lines.ask(&request)?,
            #[cfg(feature = "simulate")]
            Way::Here(speaking) => speaking.answered(&request),
        })
    }

    /// Asks for what is told once it happens; waits for the first of it, or so many seconds: then it is `null`. Or until
    /// it is `over`.
    pub(super) fn wait(
        &mut self,
        path: &str,
        body: Value,
        most: u64,
        over: &AtomicBool,
    ) -> Result<Value, String> {
        let request = Request { path: path.to_owned(), body, stays: Some(most) };
        told(match &mut self.0 {
            Way::Far(lines) => lines.ask_until(&request, over)?,
            #[cfg(feature = "simulate")]
            Way::Here(speaking) => speaking.answered(&request),
        })
    }
}

fn told(answer: Answer) -> Result<Value, String> {
    match answer {
        Answer::Body(body) => Ok(body),
        Answer::Failed(why) => Err(why),
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

/// Whoever speaks to a store.
#[derive(Debug)]
struct Speaking {
    agent: ureq::Agent,
    members: Vec<String>,
}

impl Speaking {
    fn begin(store: Store) -> Result<Self, String> {
        let speaking = Self::with(store)?;
        // Before the first word from outside is heard.
        nobody::give_up_privileges()
            .map_err(|it| format!("cannot be spoken to without privileges: {it}"))?;
        Ok(speaking)
    }

    fn with(store: Store) -> Result<Self, String> {
        let own = store.own.as_ref().map(|(certificate, key)| (&**certificate, &**key));
        let is_plain = store.members.iter().all(|it| it.starts_with("http:"));
        let mut config = ureq::Agent::config_builder()
            .https_only(!is_plain)
            .max_redirects(0)
            .timeout_global(Some(PATIENCE))
            // Somebody asks once a minute: to begin anew every time is what costs a store most.
            .max_idle_age(KEPT)
            .http_status_as_error(false)
            .proxy(None)
            .user_agent("tipstaff");
        if !is_plain {
            config = config.tls_config(tls::for_store(store.ca.as_deref(), own)?);
        }
        let agent = config.build().into();
        Ok(Self { agent, members: store.members })
    }

    fn answer(&self, line: &str) -> Answer {
        match serde_json::from_str(line) {
            Ok(request) => self.answered(&request),
            Err(error) => Answer::Failed(error.to_string()),
        }
    }

    fn answered(&self, request: &Request) -> Answer {
        let mut told = Vec::new();
        for member in &self.members {
            let asked = match request.stays {
                None => self.ask(member, request),
                Some(most) => self.wait(member, request, Duration::from_secs(most)),
            };
            match asked {
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

    /// Reads the lines of an answer that goes on until one of them says that something happened.
    fn wait(&self, member: &str, request: &Request, most: Duration) -> Result<Value, String> {
        // A list is a stream of them.
        let body = match &request.body {
            Value::Array(several) => several.iter().map(ToString::to_string).collect(),
            one => one.to_string(),
        };
        let sent = self.agent.post(format!("{member}{}", request.path));
        let sent = sent
            .config()
            .timeout_global(Some(most))
            .timeout_connect(Some(PATIENCE))
            .timeout_recv_response(Some(PATIENCE))
            .build();
        let sent = sent.header("content-type", "application/json").send(body.as_bytes());
        let mut response = sent.map_err(|error| error.to_string())?;
        let status = response.status().as_u16();
        if status != 200 {
            return Err(format!("it answers {status}, and does not tell what happens"));
        }
        let lines = BufReader::new(response.body_mut().as_reader()).take(LONGEST);
        for line in lines.lines() {
            let line = match line {
                Ok(line) => line,
                // Nothing happened in that time.
                Err(error) if is_late(&error) => return Ok(Value::Null),
                Err(error) => return Err(error.to_string()),
            };
            let said: Value = serde_json::from_str(&line).map_err(|error| error.to_string())?;
            if said.pointer("/result/created").is_none()
                || said.pointer("/result/canceled").is_some()
            {
                return Ok(said);
            }
        }
        Err("it tells no more of what happens".into())
    }
}

fn is_late(error: &io::Error) -> bool {
    let inner = error.get_ref().and_then(|it| it.downcast_ref::<ureq::Error>());
    matches!(inner, Some(ureq::Error::Timeout(_))) || error.kind() == io::ErrorKind::TimedOut
}
