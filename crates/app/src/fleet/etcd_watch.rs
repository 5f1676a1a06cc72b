//! Waiting for what is new in etcd.
//!
//! # References
//! etcd 3.4, "API reference": `Watch`, a stream of requests and one of answers; by the gateway `/v3/watch`.

use super::carrier::{Shelf, Told, Waiting};
use super::far::{Store, Talk};
use super::spread::spread;
use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use serde_json::{Value, json};
use std::sync::atomic::AtomicBool;
use std::time::Duration;

/// So long it is waited, in seconds, and up to half as long again, by chance: whoever is cut off without a word notices then.
const MOST: Duration = Duration::from_secs(240);

/// Bytes as the gateway has them.
pub(super) fn base64(bytes: impl AsRef<[u8]>) -> String {
    BASE64_STANDARD.encode(bytes)
}

/// Where the keys end that begin so: the last byte one higher, as etcd has it.
pub(super) fn after(begin: &str) -> Vec<u8> {
    let mut end = begin.as_bytes().to_vec();
    if let Some(last) = end.last_mut() {
        *last += 1;
    }
    end
}

/// Who waits for keys that begin so.
#[derive(Debug)]
pub(super) struct Watch {
    store: Store,
    begins: [(Shelf, String); 2],
    talk: Option<Talk>,
    /// Whether a stream is open that tells.
    tells: bool,
}

impl Watch {
    pub(super) fn of(store: Store, begins: [(Shelf, String); 2]) -> Self {
        Self { store, begins, talk: None, tells: false }
    }

    fn waited(&mut self, talk: &mut Talk, over: &AtomicBool) -> Result<Vec<Told>, String> {
        // From here on: what is there already is looked at now. To begin from before would have the store read all that was
        // since, for each who does.
        let request = |(_, begin): &(Shelf, String)| json!({ "create_request": { "key": base64(begin), "range_end": base64(after(begin)) } });
        let said = match std::mem::replace(&mut self.tells, true) {
            true => talk.wait_on(over)?,
            // Several requests in one stream: one for each.
            false => {
                let [first, second] = self.begins.each_ref().map(request);
                let most = MOST + spread(2 * MOST);
                talk.wait("/v3/watch", json!([first, second]), most.as_secs(), over)?
            }
        };
        if said.is_null() {
            self.tells = false;
            return self.waited(talk, over);
        }
        if said.pointer("/result/canceled").is_some() {
            // Of what was compacted away meanwhile nothing is told.
            return Err("it is no longer told what is new".into());
        }
        let events = said.pointer("/result/events").and_then(Value::as_array);
        Ok(events.into_iter().flatten().filter_map(|it| self.told(it)).collect())
    }

    /// What an event says, if it puts something there that has a number.
    fn told(&self, event: &Value) -> Option<Told> {
        let text = |at: &str| {
            let found = event.pointer(at).and_then(Value::as_str).unwrap_or_default();
            BASE64_STANDARD.decode(found).ok()
        };
        let key = String::from_utf8(text("/kv/key")?).ok()?;
        let (shelf, begin) = self.begins.iter().find(|it| key.starts_with(&it.1))?;
        let number = key.strip_prefix(begin.as_str())?.parse().ok()?;
        Some(Told { shelf: *shelf, number, bytes: text("/kv/value")? })
    }
}

impl Waiting for Watch {
    fn wait(&mut self, over: &AtomicBool) -> Result<Vec<Told>, String> {
        let mut talk = match self.talk.take() {
            Some(talk) => talk,
            None => Talk::begin(&self.store)?,
        };
        let waited = self.waited(&mut talk, over);
        match &waited {
            Ok(_) => self.talk = Some(talk),
            Err(_) => self.tells = false,
        }
        waited
    }
}
