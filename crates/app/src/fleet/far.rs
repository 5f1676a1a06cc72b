//! Speaking with a store over HTTPS. A process of its own does it, without privileges: a line with a request, a line with
//! the answer.

use super::lines::{LONGEST, Lines};
use crate::{nobody, tls};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::fmt;
use std::io::{self, BufRead, BufReader, Read, Take, Write};
use std::path::PathBuf;
use std::process::Command;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

/// How long a member of the store may take to answer: one that has too much to do goes on with what nobody waits for any
/// more.
const PATIENCE: Duration = Duration::from_secs(6);
/// How long it may take to be there at all. Two of three that are not, or hang, leave time for the third: where rules are
/// new, the store must be reached within 20 seconds.
const THERE: Duration = Duration::from_secs(3);

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
    #[serde(default)]
    stays: Stays,
}

/// Whether what is answered goes on.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Stays {
    /// It is answered once.
    #[default]
    No,
    /// As long as so many seconds; what is wanted is the first line that tells something.
    For(u64),
    /// What is wanted is the next line of what goes on already.
    On,
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
        let request = Request { path: path.to_owned(), body, stays: Stays::No };
        told(match &mut self.0 {
            Way::Far(lines) => lines.ask(&request)?,
            #[cfg(feature = "simulate")]
            Way::Here(speaking) => speaking.answered(&request),
        })
    }

    /// Asks for what is told once it happens: that it begins, and then the first of it; whatever is told in so many
    /// seconds, behind which it is `null`. Waits for one of these, or until it is `over`.
    pub(super) fn wait(
        &mut self,
        path: &str,
        body: Value,
        most: u64,
        over: &AtomicBool,
    ) -> Result<Value, String> {
        self.told_until(&Request { path: path.to_owned(), body, stays: Stays::For(most) }, over)
    }

    /// Waits for the next of what is told since [`Talk::wait`], if that has not come to its end.
    pub(super) fn wait_on(&mut self, over: &AtomicBool) -> Result<Value, String> {
        let request = Request { path: String::new(), body: Value::Null, stays: Stays::On };
        self.told_until(&request, over)
    }

    fn told_until(&mut self, request: &Request, over: &AtomicBool) -> Result<Value, String> {
        told(match &mut self.0 {
            Way::Far(lines) => lines.ask_until(request, over)?,
            #[cfg(feature = "simulate")]
            Way::Here(speaking) => speaking.answered(request),
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
    let mut speaking = store.map_err(|error| error.to_string()).and_then(Speaking::begin);
    for line in lines {
        let line = line?;
        let answer = match &mut speaking {
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
    /// What goes on to tell.
    tells: Option<Telling>,
}

/// An answer that goes on, line by line.
struct Telling {
    member: String,
    lines: BufReader<Take<ureq::BodyReader<'static>>>,
    /// How many have yet to say that they begin.
    begin: usize,
}

impl fmt::Debug for Telling {
    fn fmt(&self, to: &mut fmt::Formatter<'_>) -> fmt::Result {
        to.debug_struct("Telling").field("member", &self.member).finish_non_exhaustive()
    }
}

impl Telling {
    /// The next line that tells something: that all of them begin, or what happened.
    fn next(&mut self) -> Result<Value, String> {
        loop {
            let mut line = String::new();
            match self.lines.read_line(&mut line) {
                Ok(0) => return Err("it tells no more of what happens".into()),
                Ok(_) => {}
                // Nothing happened in that time.
                Err(error) if is_late(&error) => return Ok(Value::Null),
                Err(error) => return Err(error.to_string()),
            }
            let said: Value = serde_json::from_str(&line).map_err(|error| error.to_string())?;
            let begins = said.pointer("/result/created").is_some();
            self.begin = self.begin.saturating_sub(usize::from(begins));
            let canceled = said.pointer("/result/canceled").is_some();
            if !begins || self.begin == 0 || canceled {
                return Ok(said);
            }
        }
    }
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
            .timeout_connect(Some(THERE))
            // Somebody asks once a minute: to begin anew every time is what costs a store most.
            .max_idle_age(KEPT)
            .http_status_as_error(false)
            .proxy(None)
            .user_agent("tipstaff");
        if !is_plain {
            config = config.tls_config(tls::for_store(store.ca.as_deref(), own)?);
        }
        let agent = config.build().into();
        Ok(Self { agent, members: store.members, tells: None })
    }

    fn answer(&mut self, line: &str) -> Answer {
        match serde_json::from_str(line) {
            Ok(request) => self.answered(&request),
            Err(error) => Answer::Failed(error.to_string()),
        }
    }

    fn answered(&mut self, request: &Request) -> Answer {
        if matches!(request.stays, Stays::On) {
            let Some(mut tells) = self.tells.take() else {
                return Answer::Failed("nothing goes on".into());
            };
            return match tells.next() {
                Ok(body) => {
                    self.tells = Some(tells);
                    Answer::Body(body)
                }
                Err(why) => Answer::Failed(format!("{}: {why}", tells.member)),
            };
        }
        let mut told = Vec::new();
        for member in &self.members {
            let asked = match request.stays {
                Stays::For(most) => self.wait(member, request, Duration::from_secs(most)),
                Stays::No | Stays::On => self.ask(member, request).map(|it| (it, None)),
            };
            match asked {
                Ok((body, tells)) => {
                    self.tells = tells.or(self.tells.take());
                    return Answer::Body(body);
                }
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
                // What goes on is complained of in another form.
                let ways = ["/error", "/message", "/error/message"];
                let why = ways.iter().find_map(|it| value.pointer(it)?.as_str());
                Err(format!("it answers {status}: {}", why.unwrap_or("nothing else")))
            }
        }
    }

    /// Begins to read an answer that goes on: what it tells first.
    fn wait(
        &self,
        member: &str,
        request: &Request,
        most: Duration,
    ) -> Result<(Value, Option<Telling>), String> {
        // A list is a stream of them.
        let all = match &request.body {
            Value::Array(several) => several.as_slice(),
            one => std::slice::from_ref(one),
        };
        let body: String = all.iter().map(ToString::to_string).collect();
        let sent = self.agent.post(format!("{member}{}", request.path));
        let sent = sent
            .config()
            .timeout_global(Some(most))
            .timeout_connect(Some(THERE))
            .timeout_recv_response(Some(PATIENCE))
            .build();
        let sent = sent.header("content-type", "application/json").send(body.as_bytes());
        let response = sent.map_err(|error| error.to_string())?;
        let status = response.status().as_u16();
        if status != 200 {
            return Err(format!("it answers {status}, and does not tell what happens"));
        }
        let lines = BufReader::new(response.into_body().into_reader().take(LONGEST));
        let mut tells = Telling { member: member.to_owned(), lines, begin: all.len() };
        Ok((tells.next()?, Some(tells)))
    }
}

fn is_late(error: &io::Error) -> bool {
    let inner = error.get_ref().and_then(|it| it.downcast_ref::<ureq::Error>());
    matches!(inner, Some(ureq::Error::Timeout(_))) || error.kind() == io::ErrorKind::TimedOut
}
