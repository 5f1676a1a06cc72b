//! Words of hosts in etcd, and by what they are present.

use super::carrier::{Word, is_host};
use super::etcd::{Etcd, Lease};
use super::etcd_watch::base64;
use serde::Deserialize;
use serde_json::{Value, json};
use std::collections::BTreeSet;
use std::sync::MutexGuard;
use std::time::{Duration, Instant, SystemTime};
use tipstaff_core::policy::Time;

/// How long a host's presence lasts, in seconds.
const PRESENT: u64 = 180;
/// One that was prolonged within this is not again for a word.
const LASTS: Duration = Duration::from_secs(100);
/// So a store says that a lease is gone.
const GONE: &str = "lease not found";

impl Etcd {
    pub(super) fn try_tell(&self, host: &str, word: &[u8]) -> Result<(), String> {
        // What is no host's word is nobody's presence.
        if !is_host(host) {
            let key = base64(self.key(&format!("hosts/{host}")));
            self.ask("/v3/kv/put", json!({ "key": key, "value": base64(word) }))?;
            return Ok(());
        }
        let lasts = |it: &&Lease| it.host == host && it.at.elapsed() < LASTS;
        let known = self.lease()?.as_ref().filter(lasts).map(|it| it.id.clone());
        if let Some(said) = known.map(|it| self.say(host, word, &it))
            && !said.as_ref().is_err_and(|why| why.contains(GONE))
        {
            return said;
        }
        // It may be gone, however it seemed to be.
        let lease = match self.kept(host)? {
            Some(lease) => lease,
            None => self.granted(host)?,
        };
        self.say(host, word, &lease)
    }

    fn say(&self, host: &str, word: &[u8], lease: &Value) -> Result<(), String> {
        let word =
            json!({ "key": base64(self.key(&format!("hosts/{host}"))), "value": base64(word) });
        let key = base64(self.key(&format!("present/{host}")));
        let present = json!({ "key": key, "value": base64("1"), "lease": lease });
        let body = json!({ "success": [{ "requestPut": word }, { "requestPut": present }] });
        self.ask("/v3/kv/txn", body)?;
        Ok(())
    }

    fn lease(&self) -> Result<MutexGuard<'_, Option<Lease>>, String> {
        self.lease.lock().map_err(|_| "somebody else broke off".to_owned())
    }

    /// A lease of a host, which is let go of if anything fails meanwhile.
    fn granted(&self, host: &str) -> Result<Value, String> {
        let at = Instant::now();
        let answer = self.ask("/v3/lease/grant", json!({ "TTL": PRESENT.to_string() }))?;
        let id = answer.get("ID").cloned().ok_or("no lease is granted")?;
        *self.lease()? = Some(Lease { host: host.to_owned(), id: id.clone(), at });
        Ok(id)
    }

    /// The lease that a host has, for as long as such last again; `None` if it has none, or has it no more.
    pub(super) fn kept(&self, host: &str) -> Result<Option<Value>, String> {
        let its = |it: &&Lease| it.host == host;
        let Some(id) = self.lease()?.as_ref().filter(its).map(|it| it.id.clone()) else {
            return Ok(None);
        };
        let at = Instant::now();
        // Whether it still lasts is not known if that fails: to begin others meanwhile is what a store could bear least.
        let answer = self.ask("/v3/lease/keepalive", json!({ "ID": id }))?;
        let lasts = answer.pointer("/result/TTL").and_then(Value::as_str);
        let lasts = lasts.and_then(|it| it.parse::<i64>().ok()).is_some_and(|it| it > 0);
        let host = host.to_owned();
        *self.lease()? = lasts.then(|| Lease { host, id: id.clone(), at });
        Ok(lasts.then_some(id))
    }

    pub(super) fn try_told(&self) -> Result<Vec<Word>, String> {
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
