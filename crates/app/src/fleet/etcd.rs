//! etcd as the carrier, by its public API.
//!
//! # References
//! etcd 3.4, "gRPC gateway" and "API reference": `/v3/kv/range`, `/v3/kv/txn`, `/v3/lease/grant`,
//! `/v3/lease/keepalive`; bytes are base64
//! (RFC 4648 section 4), 64-bit numbers are texts.

use super::carrier::{Carrier, Put, Shelf, Waiting, Word};
use super::etcd_watch::{Watch, after, base64};
use super::far::{Store, Talk};
use crate::Failure;
use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use serde::Deserialize;
use serde_json::{Value, json};
use std::sync::Mutex;
use std::time::Instant;

/// Numbers have so many digits: the order of keys is that of their numbers.
const DIGITS: usize = 12;
/// So many of the highest numbers are asked for.
const HIGHEST: u64 = 64;
/// So many, where only the first that is a number matters: somebody may have put something else there.
const FEW: u64 = 4;
/// A request has at most 1.5 MiB, as etcd comes; so what is sealed is put there in parts.
const PART: usize = 1024 * 1024;
/// So much is put there as a whole: a store that is asked for the highest number reads all that there are.
const SMALL: usize = 16 * 1024;
/// What begins so is there as a whole, and follows.
const WHOLE: &[u8] = b"whole\n";
/// No more parts are read.
const PARTS: u64 = 320;
/// So many hosts' words are read at a time.
const WORDS: u64 = 2_000;

/// etcd as the carrier.
#[derive(Debug)]
pub(super) struct Etcd {
    store: Store,
    prefix: String,
    talk: Mutex<Option<Talk>>,
    /// By which lease a host is present that spoke by this.
    pub(super) lease: Mutex<Option<Lease>>,
}

/// By what a host is present.
#[derive(Debug)]
pub(super) struct Lease {
    pub host: String,
    pub id: Value,
    /// When it was last begun, or prolonged.
    pub at: Instant,
}

/// A key and what it has.
#[derive(Debug, Deserialize)]
pub(super) struct Pair {
    key: String,
    #[serde(default)]
    value: String,
}

impl Pair {
    fn key(&self) -> Option<String> {
        String::from_utf8(BASE64_STANDARD.decode(&self.key).ok()?).ok()
    }

    pub(super) fn value(&self) -> Result<Vec<u8>, String> {
        BASE64_STANDARD.decode(&self.value).map_err(|error| error.to_string())
    }
}

impl Etcd {
    pub(super) fn at(store: Store, prefix: &str) -> Self {
        let prefix = prefix.trim_matches('/').to_owned();
        Self { store, prefix, talk: Mutex::new(None), lease: Mutex::new(None) }
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

    pub(super) fn key(&self, rest: &str) -> String {
        format!("/{}/{rest}", self.prefix)
    }

    fn numbered(&self, shelf: Shelf, number: u64) -> String {
        self.key(&format!("{}/{number:0DIGITS$}", folder(shelf)))
    }

    fn part(&self, digest: &str, part: usize) -> String {
        self.key(&format!("parts/{digest}/{part:04}"))
    }

    pub(super) fn ask(&self, path: &str, body: Value) -> Result<Value, String> {
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
        pairs(&mut self.ask("/v3/kv/range", body)?)
    }

    /// How the highest numbers of a shelf are asked for, so many of those that are not below one.
    fn highest_of(&self, shelf: Shelf, least: u64, most: u64) -> Value {
        let end = after(&self.key(&format!("{}/", folder(shelf))));
        json!({
            "key": base64(self.numbered(shelf, least)), "range_end": base64(end),
            "limit": most.to_string(), "sort_order": "DESCEND", "sort_target": "KEY", "keys_only": true,
        })
    }

    /// The numbers that keys of a shelf have.
    fn numbers_of(&self, shelf: Shelf, found: &[Pair]) -> Vec<u64> {
        let begin = self.key(&format!("{}/", folder(shelf)));
        let number = |it: &Pair| {
            let key = it.key()?;
            let digits = key.strip_prefix(&begin).filter(|it| it.len() == DIGITS)?;
            digits.parse().ok().filter(|&it: &u64| it > 0)
        };
        found.iter().filter_map(number).collect()
    }

    /// So many of the highest numbers of a shelf.
    fn few(&self, shelf: Shelf, most: u64) -> Result<Vec<u64>, String> {
        Ok(self.numbers_of(shelf, &self.range(self.highest_of(shelf, 0, most))?))
    }

    /// The highest numbers of both, asked for at once: every host asks all the time, and for a store to sort what is long
    /// known is work.
    fn two(&self, known: [u64; 2]) -> Result<[Option<u64>; 2], String> {
        let shelves = [Shelf::Orders, Shelf::Questions];
        let of =
            |at: usize| json!({ "requestRange": self.highest_of(shelves[at], known[at], FEW) });
        let mut answer = self.ask("/v3/kv/txn", json!({ "success": [of(0), of(1)] }))?;
        let mut highest = [None; 2];
        for (at, highest) in highest.iter_mut().enumerate() {
            let found = answer.pointer_mut(&format!("/responses/{at}/response_range"));
            let found = pairs(found.ok_or("no range is answered")?)?;
            *highest = self.numbers_of(shelves[at], &found).first().copied();
            if highest.is_none() && known[at] > 0 {
                // What was there is gone.
                *highest = self.few(shelves[at], FEW)?.first().copied();
            }
        }
        Ok(highest)
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

    /// What is there as a whole, or was put there in parts, by what the key says of them: their number, and the digest of
    /// the whole.
    fn whole(&self, head: &[u8]) -> Result<Vec<u8>, String> {
        if let Some(whole) = head.strip_prefix(WHOLE) {
            return Ok(whole.to_vec());
        }
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

    fn put_parts(&self, bytes: &[u8]) -> Result<Vec<u8>, String> {
        if bytes.len() <= SMALL {
            return Ok([WHOLE, bytes].concat());
        }
        let digest = tipstaff_sealed::digest(bytes);
        let parts = bytes.chunks(PART);
        let count = parts.len();
        for (at, part) in parts.enumerate() {
            let (key, value) = (base64(self.part(&digest, at)), base64(part));
            self.ask("/v3/kv/put", json!({ "key": key, "value": value }))?;
        }
        Ok(format!("{count} {digest}").into_bytes())
    }

    /// All keys that begin so, some at a time.
    pub(super) fn all(&self, begin: &str, keys_only: bool) -> Result<Vec<(String, Pair)>, String> {
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
}

fn pairs(found: &mut Value) -> Result<Vec<Pair>, String> {
    // Nothing is not written.
    let pairs = found.get_mut("kvs").map_or(json!([]), Value::take);
    serde_json::from_value(pairs).map_err(|error| error.to_string())
}

fn folder(shelf: Shelf) -> &'static str {
    match shelf {
        Shelf::Sealed => "sealed",
        Shelf::Orders => "orders",
        Shelf::Questions => "questions",
    }
}

impl Carrier for Etcd {
    fn numbers(&self, shelf: Shelf) -> Result<Vec<u64>, Failure> {
        self.few(shelf, HIGHEST).map_err(|why| self.failed("look", &why))
    }

    fn highest(&self, shelf: Shelf) -> Result<Option<u64>, Failure> {
        let found = self.few(shelf, FEW).map_err(|why| self.failed("look", &why))?;
        Ok(found.first().copied())
    }

    fn highest_two(&self, known: [u64; 2]) -> Result<[Option<u64>; 2], Failure> {
        self.two(known).map_err(|why| self.failed("look", &why))
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
            Shelf::Sealed => self.put_parts(bytes),
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

    fn stays(&self, host: &str) -> Result<bool, Failure> {
        let kept = self.kept(host).map_err(|why| self.failed("be present", &why))?;
        Ok(kept.is_some())
    }

    fn mends(&self) -> bool {
        true
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
