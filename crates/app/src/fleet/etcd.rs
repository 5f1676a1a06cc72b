//! etcd as the carrier, by its public API.
//!
//! # References
//! etcd 3.4, "gRPC gateway" and "API reference": `/v3/kv/range`, `/v3/kv/txn`, `/v3/lease/grant`; bytes are base64
//! (RFC 4648 section 4), 64-bit numbers are texts.

use super::carrier::{Carrier, Put, Shelf, Waiting, Word, is_host};
use super::etcd_watch::{Watch, after, base64};
use super::far::{Store, Talk};
use crate::Failure;
use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use serde::Deserialize;
use serde_json::{Value, json};
use std::collections::BTreeSet;
use std::sync::Mutex;
use std::time::{Duration, SystemTime};
use tipstaff_core::policy::Time;

/// Numbers have so many digits: the order of keys is that of their numbers.
const DIGITS: usize = 12;
/// So many of the highest numbers are asked for.
const HIGHEST: u64 = 64;
/// So many, where only the first that is a number matters: somebody may have put something else there.
const FEW: u64 = 4;
/// A request has at most 1.5 MiB, as etcd comes; so what is sealed is put there in parts.
const PART: usize = 1024 * 1024;
/// No more parts are read.
const PARTS: u64 = 320;
/// How long a host's presence lasts, in seconds.
const PRESENT: u64 = 180;
/// So many hosts' words are read at a time.
const WORDS: u64 = 2_000;

/// etcd as the carrier.
#[derive(Debug)]
pub(super) struct Etcd {
    store: Store,
    prefix: String,
    talk: Mutex<Option<Talk>>,
}

/// A key and what it has.
#[derive(Debug, Deserialize)]
struct Pair {
    key: String,
    #[serde(default)]
    value: String,
}

impl Pair {
    fn key(&self) -> Option<String> {
        String::from_utf8(BASE64_STANDARD.decode(&self.key).ok()?).ok()
    }

    fn value(&self) -> Result<Vec<u8>, String> {
        BASE64_STANDARD.decode(&self.value).map_err(|error| error.to_string())
    }
}

impl Etcd {
    pub(super) fn at(store: Store, prefix: &str) -> Self {
        Self { store, prefix: prefix.trim_matches('/').to_owned(), talk: Mutex::new(None) }
    }

    fn failed(&self, what: &str, why: &str) -> Failure {
        Failure::System {
            message: format!("cannot {what} in etcd: {why}"),
            help: vec![format!(
                "asked were {}, below /{}/; --carrier-ca, --carrier-cert and --carrier-key say by which certificates",
                self.store.members.join(", "),
                self.prefix
            )],
        }
    }

    fn key(&self, rest: &str) -> String {
        format!("/{}/{rest}", self.prefix)
    }

    fn numbered(&self, shelf: Shelf, number: u64) -> String {
        self.key(&format!("{}/{number:0DIGITS$}", folder(shelf)))
    }

    fn part(&self, digest: &str, part: usize) -> String {
        self.key(&format!("parts/{digest}/{part:04}"))
    }

    fn ask(&self, path: &str, body: Value) -> Result<Value, String> {
        let mut talk = self.talk.lock().map_err(|_| "somebody else broke off".to_owned())?;
        let talking = match talk.take() {
            Some(talking) => talk.insert(talking),
            None => talk.insert(Talk::begin(&self.store)?),
        };
        let answer = talking.ask(path, body);
        if answer.is_err() {
            *talk = None;
        }
        answer
    }

    fn range(&self, body: Value) -> Result<Vec<Pair>, String> {
        let mut found = self.ask("/v3/kv/range", body)?;
        // Nothing is not written.
        let pairs = found.get_mut("kvs").map_or(json!([]), Value::take);
        serde_json::from_value(pairs).map_err(|error| error.to_string())
    }

    /// So many of the highest numbers of a shelf.
    fn few(&self, shelf: Shelf, most: u64) -> Result<Vec<u64>, String> {
        let begin = self.key(&format!("{}/", folder(shelf)));
        let found = self.range(json!({
            "key": base64(&begin), "range_end": base64(after(&begin)), "limit": most.to_string(),
            "sort_order": "DESCEND", "sort_target": "KEY", "keys_only": true,
        }))?;
        let number = |it: &Pair| {
            let key = it.key()?;
            let digits = key.strip_prefix(&begin).filter(|it| it.len() == DIGITS)?;
            digits.parse().ok().filter(|&it: &u64| it > 0)
        };
        Ok(found.iter().filter_map(number).collect())
    }

    fn get(&self, key: &str) -> Result<Option<Vec<u8>>, String> {
        let found = self.range(json!({ "key": base64(key) }))?;
        found.first().map(Pair::value).transpose()
    }

    /// Puts a key there that is not, at once with nothing else: whether it was put.
    fn create(&self, key: &str, value: &[u8]) -> Result<bool, String> {
        let key = base64(key);
        let answer = self.ask(
            "/v3/kv/txn",
            json!({
                "compare": [{ "key": key, "target": "VERSION", "result": "EQUAL", "version": "0" }],
                "success": [{ "requestPut": { "key": key, "value": base64(value) } }],
            }),
        )?;
        Ok(answer.get("succeeded").and_then(Value::as_bool).unwrap_or(false))
    }

    /// What was put there in parts, by what the key says of them: their number, and the digest of the whole.
    fn whole(&self, head: &[u8]) -> Result<Vec<u8>, String> {
        let head = String::from_utf8_lossy(head).into_owned();
        let no = || "what is there is not in the form of ours".to_owned();
        let (parts, digest) = head.split_once(' ').ok_or_else(no)?;
        let parts = parts.parse::<u64>().ok().filter(|it| *it <= PARTS).ok_or_else(no)?;
        let mut whole = Vec::new();
        for part in 0..parts {
            let part = usize::try_from(part).unwrap_or_default();
            let bytes = self.get(&self.part(digest, part))?;
            whole.extend(bytes.ok_or_else(|| "a part of it is missing".to_owned())?);
        }
        Ok(whole)
    }

    fn put_parts(&self, bytes: &[u8]) -> Result<String, String> {
        let digest = tipstaff_sealed::digest(bytes);
        let parts = bytes.chunks(PART);
        let count = parts.len();
        for (at, part) in parts.enumerate() {
            let (key, value) = (base64(self.part(&digest, at)), base64(part));
            self.ask("/v3/kv/put", json!({ "key": key, "value": value }))?;
        }
        Ok(format!("{count} {digest}"))
    }

    fn try_tell(&self, host: &str, word: &[u8]) -> Result<(), String> {
        // What is no host's word is nobody's presence.
        if !is_host(host) {
            let key = base64(self.key(&format!("hosts/{host}")));
            self.ask("/v3/kv/put", json!({ "key": key, "value": base64(word) }))?;
            return Ok(());
        }
        let lease = self.ask("/v3/lease/grant", json!({ "TTL": PRESENT.to_string() }))?;
        let lease = lease.get("ID").cloned().ok_or("no lease is granted")?;
        let word =
            json!({ "key": base64(self.key(&format!("hosts/{host}"))), "value": base64(word) });
        let key = base64(self.key(&format!("present/{host}")));
        let present = json!({ "key": key, "value": base64("1"), "lease": lease });
        let body = json!({ "success": [{ "requestPut": word }, { "requestPut": present }] });
        self.ask("/v3/kv/txn", body)?;
        Ok(())
    }

    /// All keys that begin so, some at a time.
    fn all(&self, begin: &str, keys_only: bool) -> Result<Vec<(String, Pair)>, String> {
        let (mut from, end) = (begin.to_owned(), after(begin));
        let mut all = Vec::new();
        loop {
            let found = self.range(json!({
                "key": base64(&from), "range_end": base64(&end),
                "limit": WORDS.to_string(), "keys_only": keys_only,
            }))?;
            let more = found.len() as u64 == WORDS;
            for pair in found {
                let Some(key) = pair.key() else { continue };
                from = format!("{key}\0");
                let name = key.strip_prefix(begin).unwrap_or_default().to_owned();
                all.push((name, pair));
            }
            if !more {
                return Ok(all);
            }
        }
    }

    fn try_told(&self) -> Result<Vec<Word>, String> {
        let present: BTreeSet<String> =
            self.all(&self.key("present/"), true)?.into_iter().map(|it| it.0).collect();
        let mut words = Vec::new();
        for (host, pair) in self.all(&self.key("hosts/"), false)? {
            if is_host(&host) {
                let bytes = pair.value()?;
                let ago = ago(&bytes, present.contains(&host));
                words.push(Word { host, bytes, ago });
            }
        }
        Ok(words)
    }
}

fn folder(shelf: Shelf) -> &'static str {
    match shelf {
        Shelf::Sealed => "sealed",
        Shelf::Orders => "orders",
        Shelf::Questions => "questions",
    }
}

/// How long ago a word was left: etcd does not say. Whether its presence has run out does not depend on any clock; within
/// that, it is what the host's says.
fn ago(word: &[u8], present: bool) -> Duration {
    #[derive(Deserialize)]
    struct At {
        at: String,
    }
    let at = serde_json::from_slice(word).ok().and_then(|it: At| Time::parse(&it.at));
    let now = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
    let now = i64::try_from(now.as_secs()).unwrap_or_default();
    let by_clock = u64::try_from(now - at.map_or(now, Time::seconds)).unwrap_or_default();
    Duration::from_secs(if present { by_clock.min(PRESENT) } else { by_clock.max(PRESENT + 1) })
}

impl Carrier for Etcd {
    fn numbers(&self, shelf: Shelf) -> Result<Vec<u64>, Failure> {
        self.few(shelf, HIGHEST).map_err(|why| self.failed("look", &why))
    }

    /// Every host asks all the time.
    fn highest(&self, shelf: Shelf) -> Result<Option<u64>, Failure> {
        let found = self.few(shelf, FEW).map_err(|why| self.failed("look", &why))?;
        Ok(found.first().copied())
    }

    fn read(&self, shelf: Shelf, number: u64) -> Result<Option<Vec<u8>>, Failure> {
        let found = self.get(&self.numbered(shelf, number)).and_then(|it| match (it, shelf) {
            (Some(head), Shelf::Sealed) => self.whole(&head).map(Some),
            (found, _) => Ok(found),
        });
        found.map_err(|why| self.failed(&format!("read number {number}"), &why))
    }

    fn put(&self, shelf: Shelf, number: u64, bytes: &[u8]) -> Result<Put, Failure> {
        let value = match shelf {
            Shelf::Sealed => self.put_parts(bytes).map(String::into_bytes),
            Shelf::Orders | Shelf::Questions => Ok(bytes.to_vec()),
        };
        let put = value.and_then(|it| self.create(&self.numbered(shelf, number), &it));
        match put.map_err(|why| self.failed("write", &why))? {
            true => Ok(Put::Done),
            false => Ok(Put::Taken),
        }
    }

    fn place(&self, shelf: Shelf, number: u64) -> String {
        format!("etcd, {}", self.numbered(shelf, number))
    }

    fn tell(&self, host: &str, word: &[u8]) -> Result<(), Failure> {
        self.try_tell(host, word).map_err(|why| self.failed("leave word", &why))
    }

    fn word_of(&self, host: &str) -> Result<Option<Vec<u8>>, Failure> {
        let word = self.get(&self.key(&format!("hosts/{host}")));
        word.map_err(|why| self.failed("read a word", &why))
    }

    fn waiting(&self) -> Option<Box<dyn Waiting + Send>> {
        let shelves = [Shelf::Orders, Shelf::Questions];
        let begins = shelves.map(|it| (it, self.key(&format!("{}/", folder(it)))));
        Some(Box::new(Watch::of(self.store.clone(), begins)))
    }

    fn told(&self) -> Result<Vec<Word>, Failure> {
        self.try_told().map_err(|why| self.failed("look", &why))
    }
}
