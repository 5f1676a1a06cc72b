//! A folder on another machine as the carrier, over SSH: `tipstaff carry --folder` there is asked, a line of JSON for
//! each question.

use super::carrier::{Carrier, Put, Shelf, Word, is_host};
use super::folder::Folder;
use super::lines::Lines;
use crate::{Failure, ssh};
use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use serde::{Deserialize, Serialize};
use std::io::{self, BufRead, Write};
use std::path::Path;
use std::process::Command;
use std::sync::Mutex;
use std::time::Duration;

/// What is said to the client: it asks nobody, and does not wait for ever.
const OPTIONS: [&str; 8] = [
    "-o",
    "BatchMode=yes",
    "-o",
    "ConnectTimeout=8",
    "-o",
    "ServerAliveInterval=5",
    "-o",
    "ServerAliveCountMax=2",
];

#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
enum Request {
    Numbers { shelf: Shelf },
    Read { shelf: Shelf, number: u64 },
    Put { shelf: Shelf, number: u64, bytes: String },
    Tell { host: String, word: String },
    WordOf { host: String },
    Told {},
}

#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Answer {
    Numbers(Vec<u64>),
    Bytes(Option<String>),
    Put { done: bool },
    Told(Vec<(String, String, u64)>),
    Failed(String),
}

/// A folder on another machine as the carrier.
#[derive(Debug)]
pub(super) struct OverSsh {
    shown: String,
    words: Vec<String>,
    lines: Mutex<Option<Lines>>,
}

impl OverSsh {
    /// The folder of `[USER@]HOST[:PORT]/PATH`; `None` if it is none of that.
    pub(super) fn at(text: &str) -> Option<Self> {
        let slash = text.find('/')?;
        let (host, path) = text.split_at(slash);
        // The shell there takes it as one word.
        let path = format!("'{}'", path.replace('\'', "'\\''"));
        let mut words = ssh::words(host, &["tipstaff", "carry", "--folder", &path])?;
        words.splice(1..1, OPTIONS.map(str::to_owned));
        Some(Self { shown: format!("ssh://{text}"), words, lines: Mutex::new(None) })
    }

    fn ask(&self, what: &str, request: &Request) -> Result<Answer, Failure> {
        let failed = |why: String| Failure::System {
            message: format!("cannot {what} in {}: {why}", self.shown),
            help: vec![format!("asked was: {}", self.words.join(" "))],
        };
        let mut held = self.lines.lock().map_err(|_| failed("somebody else broke off".into()))?;
        let asked = match held.take() {
            Some(lines) => Ok(lines),
            None => {
                let mut command = Command::new(&self.words[0]);
                command.args(&self.words[1..]);
                Lines::begin(command)
            }
        };
        let mut lines = asked.map_err(failed)?;
        match lines.ask(request).map_err(failed)? {
            Answer::Failed(why) => Err(failed(why)),
            answer => {
                *held = Some(lines);
                Ok(answer)
            }
        }
    }

    fn odd(&self) -> Failure {
        Failure::System {
            message: format!("{} answers something else than it was asked", self.shown),
            help: vec!["both ends must be of versions that know fleets".into()],
        }
    }
}

fn bytes(text: &str) -> Option<Vec<u8>> {
    BASE64_STANDARD.decode(text).ok()
}

impl Carrier for OverSsh {
    fn numbers(&self, shelf: Shelf) -> Result<Vec<u64>, Failure> {
        match self.ask("look", &Request::Numbers { shelf })? {
            Answer::Numbers(numbers) => Ok(numbers),
            _ => Err(self.odd()),
        }
    }

    fn read(&self, shelf: Shelf, number: u64) -> Result<Option<Vec<u8>>, Failure> {
        match self.ask(&format!("read number {number}"), &Request::Read { shelf, number })? {
            Answer::Bytes(None) => Ok(None),
            Answer::Bytes(Some(text)) => bytes(&text).map(Some).ok_or_else(|| self.odd()),
            _ => Err(self.odd()),
        }
    }

    fn put(&self, shelf: Shelf, number: u64, bytes: &[u8]) -> Result<Put, Failure> {
        let bytes = BASE64_STANDARD.encode(bytes);
        match self.ask("write", &Request::Put { shelf, number, bytes })? {
            Answer::Put { done: true } => Ok(Put::Done),
            Answer::Put { done: false } => Ok(Put::Taken),
            _ => Err(self.odd()),
        }
    }

    fn place(&self, shelf: Shelf, number: u64) -> String {
        let (host, path) = self.shown[6..].split_at(self.shown[6..].find('/').unwrap_or_default());
        format!("{host}:{}", Folder::at(Path::new(path)).place(shelf, number))
    }

    fn tell(&self, host: &str, word: &[u8]) -> Result<(), Failure> {
        let word = BASE64_STANDARD.encode(word);
        match self.ask("leave word", &Request::Tell { host: host.to_owned(), word })? {
            Answer::Put { done: true } => Ok(()),
            _ => Err(self.odd()),
        }
    }

    fn word_of(&self, host: &str) -> Result<Option<Vec<u8>>, Failure> {
        match self.ask("read a word", &Request::WordOf { host: host.to_owned() })? {
            Answer::Bytes(None) => Ok(None),
            Answer::Bytes(Some(text)) => bytes(&text).map(Some).ok_or_else(|| self.odd()),
            _ => Err(self.odd()),
        }
    }

    fn told(&self) -> Result<Vec<Word>, Failure> {
        let Answer::Told(words) = self.ask("look", &Request::Told {})? else {
            return Err(self.odd());
        };
        let word = |(host, text, ago): (String, String, u64)| {
            Some(Word { host, bytes: bytes(&text)?, ago: Duration::from_secs(ago) })
        };
        Ok(words.into_iter().filter_map(word).collect())
    }
}

/// The far end: answers what is asked about a folder, until nobody asks any more.
///
/// # Errors
/// The system's, if an answer cannot be handed over.
pub fn carry_folder(path: &Path, from: impl BufRead, to: &mut dyn Write) -> io::Result<()> {
    let folder = Folder::at(path);
    for line in from.lines() {
        let answer = match serde_json::from_str(&line?) {
            Ok(request) => answer(&folder, request).unwrap_or_else(|it| Answer::Failed(it.line())),
            Err(error) => Answer::Failed(format!("what was asked cannot be read: {error}")),
        };
        serde_json::to_writer(&mut *to, &answer)?;
        to.write_all(b"\n")?;
        to.flush()?;
    }
    Ok(())
}

fn answer(folder: &Folder, request: Request) -> Result<Answer, Failure> {
    let text = |it: Vec<u8>| BASE64_STANDARD.encode(it);
    let unreadable = || Failure::usage("what was sent is not base64", "both ends must speak alike");
    Ok(match request {
        Request::Numbers { shelf } => Answer::Numbers(folder.numbers(shelf)?),
        Request::Read { shelf, number } => Answer::Bytes(folder.read(shelf, number)?.map(text)),
        Request::Put { shelf, number, bytes: sent } => {
            let bytes = bytes(&sent).ok_or_else(unreadable)?;
            Answer::Put { done: folder.put(shelf, number, &bytes)? == Put::Done }
        }
        Request::Tell { host, word } => {
            folder.tell(&host, &bytes(&word).ok_or_else(unreadable)?)?;
            Answer::Put { done: true }
        }
        Request::WordOf { host } => {
            if !is_host(&host) {
                return Err(Failure::usage("no host is called so", "both ends must speak alike"));
            }
            Answer::Bytes(folder.word_of(&host)?.map(text))
        }
        Request::Told {} => {
            let told = folder.told()?.into_iter();
            Answer::Told(told.map(|it| (it.host, text(it.bytes), it.ago.as_secs())).collect())
        }
    })
}
