//! Leases: one run at a time, wherever it runs.
//!
//! A lease is an object that is made on condition that there is none. It names its holder and an end, and is renewed long
//! before that. A holder that was killed renews nothing, so its lease ends by itself. Some stores take the condition and
//! ignore it, which is found out before the first lease.

use std::io;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{RecvTimeoutError, Sender, channel};
use std::thread::{self, JoinHandle};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use atlas_store::stop::Stop;
use serde::{Deserialize, Serialize};

use super::bucket::{Bucket, PutHow, ThereBefore};

/// How long a lease holds without being renewed, in seconds.
pub const LEASE_SECONDS: u64 = 60;
/// How often it is renewed.
const RENEWAL: Duration = Duration::from_secs(15);
/// How long to wait before the next look at a lease that someone else holds.
const GLANCE: Duration = Duration::from_millis(500);

/// Who holds a lease, as its object says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct LeaseText {
    /// A random word.
    holder: String,
    /// The machine.
    host: String,
    /// When it ends, in seconds since 1970.
    until: u64,
}

/// Why there is no lease.
#[derive(Debug)]
pub enum NoLease {
    /// Someone else holds it: the machine.
    Held(String),
    /// The store takes conditions and ignores them.
    NoConditions,
    /// The store cannot be used.
    Failed(io::Error),
}

/// A lease that is held. It is renewed until it is dropped.
pub struct Lease {
    is_lost: Arc<AtomicBool>,
    ends: Option<Sender<()>>,
    renewing: Option<JoinHandle<()>>,
}

/// A lease as one kind of store keeps it.
pub(super) trait Keep: Send + 'static {
    /// Renews it; `false` if someone else has taken it.
    fn renew(&mut self) -> io::Result<bool>;
    /// Gives it up.
    fn give_up(&mut self);
}

impl Lease {
    /// Renews what is kept, in a thread of its own. If the lease is lost, `stop` is asked to stop.
    pub(super) fn keep(mut kept: impl Keep, stop: &Stop) -> Self {
        let is_lost = Arc::new(AtomicBool::new(false));
        let (ends, ended) = channel();
        let (lost, stop) = (Arc::clone(&is_lost), stop.clone());
        let renewing = thread::spawn(move || {
            let mut good_until = SystemTime::now() + Duration::from_secs(LEASE_SECONDS);
            while let Err(RecvTimeoutError::Timeout) = ended.recv_timeout(RENEWAL) {
                match kept.renew() {
                    Ok(true) => good_until = SystemTime::now() + Duration::from_secs(LEASE_SECONDS),
                    // A store that is away for a moment takes nothing from its holder.
                    Err(_) if SystemTime::now() + RENEWAL < good_until => {}
                    Ok(false) | Err(_) => {
                        lost.store(true, Ordering::SeqCst);
                        stop.ask();
                        return;
                    }
                }
            }
            kept.give_up();
        });
        Self { is_lost, ends: Some(ends), renewing: Some(renewing) }
    }

    /// Whether it was lost: someone else may work by now.
    pub fn is_lost(&self) -> bool {
        self.is_lost.load(Ordering::SeqCst)
    }
}

impl Drop for Lease {
    fn drop(&mut self) {
        drop(self.ends.take());
        if let Some(renewing) = self.renewing.take() {
            // It ends as soon as nobody can speak to it.
            let _ = renewing.join();
        }
    }
}

/// A lease in a bucket.
struct ObjectLease {
    bucket: Arc<Bucket>,
    key: String,
    text: LeaseText,
    tag: Option<String>,
}

/// Takes the lease whose object has this key. If someone else holds it, waits at most so long, and says so once.
pub(super) fn take(
    bucket: &Arc<Bucket>,
    key: &str,
    wait: Duration,
    stop: &Stop,
    told: &dyn Fn(&str),
) -> Result<Lease, NoLease> {
    probe(bucket, key, stop)?;
    let text = LeaseText { holder: format!("{:016x}", random()), host: host(), until: until() };
    let mut lease = ObjectLease { bucket: Arc::clone(bucket), key: key.to_owned(), text, tag: None };
    let (begun, mut is_told) = (SystemTime::now(), false);
    loop {
        match lease.try_take(stop).map_err(NoLease::Failed)? {
            None => return Ok(Lease::keep(lease, stop)),
            Some(other) => {
                if begun.elapsed().unwrap_or(wait) >= wait || stop.is_asked() {
                    return Err(NoLease::Held(other));
                }
                if !std::mem::replace(&mut is_told, true) {
                    told(&other);
                }
                thread::sleep(GLANCE);
            }
        }
    }
}

/// Finds out whether the store heeds conditions: a second object in place of the first must be refused.
fn probe(bucket: &Bucket, key: &str, stop: &Stop) -> Result<(), NoLease> {
    let key = format!("{key}-probe-{:016x}", random());
    let how = PutHow { expected: ThereBefore::Nothing, ..PutHow::default() };
    let put = |how: &PutHow| bucket.put(&key, b"probe"[..].into(), how, stop);
    let first = put(&how);
    let second = first.as_ref().ok().map(|_| put(&how));
    let other = PutHow { expected: ThereBefore::Tag("\"00000000000000000000000000000000\"".into()), ..how };
    let third = second.as_ref().filter(|second| second.is_err()).map(|_| put(&other));
    let removed = bucket.remove(&key, stop);
    let refused = |error: &io::Error| error.kind() == io::ErrorKind::AlreadyExists;
    match (first, second, third) {
        (Ok(_), Some(Err(second)), Some(Err(third))) if refused(&second) && refused(&third) => {
            removed.map_err(NoLease::Failed)
        }
        (Err(error), ..) if error.kind() != io::ErrorKind::Unsupported => Err(NoLease::Failed(error)),
        _ => Err(NoLease::NoConditions),
    }
}

impl ObjectLease {
    /// Takes the lease, unless someone else holds it: then the machine that does.
    fn try_take(&mut self, stop: &Stop) -> io::Result<Option<String>> {
        let there = self.bucket.whole(&self.key, stop)?;
        let expected = match &there {
            None => ThereBefore::Nothing,
            Some((bytes, object)) => match serde_json::from_slice::<LeaseText>(bytes) {
                Ok(other) if other.until > now() && other.until <= now() + 10 * LEASE_SECONDS => {
                    return Ok(Some(other.host));
                }
                // It has ended, or says nothing that could be waited for.
                _ => object.etag.clone().map_or(ThereBefore::Anything, ThereBefore::Tag),
            },
        };
        match self.put(expected, stop) {
            Ok(()) => Ok(None),
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => Ok(Some("another machine".to_owned())),
            Err(error) => Err(error),
        }
    }

    fn put(&mut self, expected: ThereBefore, stop: &Stop) -> io::Result<()> {
        self.text.until = until();
        let bytes = serde_json::to_vec(&self.text)?;
        let how = PutHow { content_type: Some("application/json"), expected, ..PutHow::default() };
        self.tag = self.bucket.put(&self.key, bytes.into(), &how, stop)?;
        Ok(())
    }

    fn is_ours(&self) -> io::Result<Option<String>> {
        let there = self.bucket.whole(&self.key, &Stop::default())?;
        let ours = there.filter(|(bytes, _)| {
            serde_json::from_slice::<LeaseText>(bytes).is_ok_and(|text| text.holder == self.text.holder)
        });
        Ok(ours.map(|(_, object)| object.etag.unwrap_or_default()))
    }
}

impl Keep for ObjectLease {
    fn renew(&mut self) -> io::Result<bool> {
        let Some(tag) = self.tag.clone() else { return Ok(false) };
        match self.put(ThereBefore::Tag(tag), &Stop::default()) {
            Ok(()) => Ok(true),
            // The answer to an earlier try may have been lost.
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
                self.tag = self.is_ours()?;
                Ok(self.tag.is_some())
            }
            Err(error) => Err(error),
        }
    }

    fn give_up(&mut self) {
        // If it cannot be removed, it ends by itself.
        if self.is_ours().is_ok_and(|tag| tag.is_some()) {
            let _ = self.bucket.remove(&self.key, &Stop::default());
        }
    }
}

fn now() -> u64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs())
}

fn until() -> u64 {
    now() + LEASE_SECONDS
}

fn host() -> String {
    std::fs::read_to_string("/etc/hostname")
        .ok()
        .map(|name| name.trim().to_owned())
        .or_else(|| std::env::var("HOSTNAME").ok())
        .filter(|name| !name.is_empty())
        .unwrap_or_else(|| "another machine".to_owned())
}

fn random() -> u64 {
    use std::hash::{BuildHasher, Hasher, RandomState};
    let mut hasher = RandomState::new().build_hasher();
    hasher.write_u32(std::process::id());
    hasher.finish()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_holder_at_a_time() {
        let (bucket, stop) = (Bucket::in_memory(), Stop::default());
        let take = |wait: u64| take(&bucket, "ledger.lease", Duration::from_millis(wait), &stop, &|_| ());
        let first = take(0).unwrap();
        assert!(matches!(take(0), Err(NoLease::Held(_))));
        assert!(!first.is_lost());
        drop(first);
        assert!(bucket.whole("ledger.lease", &stop).unwrap().is_none(), "it was given up");
        drop(take(0).unwrap());
    }

    #[test]
    fn a_lease_that_has_ended_is_taken_over() {
        let (bucket, stop) = (Bucket::in_memory(), Stop::default());
        let put = |until: u64| {
            let text = LeaseText { holder: "gone".into(), host: "depot".into(), until };
            let bytes = serde_json::to_vec(&text).unwrap();
            bucket.put("ledger.lease", bytes.into(), &PutHow::default(), &stop).unwrap();
        };
        let take = || take(&bucket, "ledger.lease", Duration::ZERO, &stop, &|_| ());
        put(now() + 30);
        assert!(matches!(take(), Err(NoLease::Held(host)) if host == "depot"));
        put(now() - 1);
        let lease = take().unwrap();
        assert!(!lease.is_lost());
        // A clock that is far ahead somewhere holds up nobody for years.
        put(now() + 1_000_000);
        drop(take().unwrap());
    }

    #[test]
    fn a_lease_that_someone_else_took_is_lost() {
        let (bucket, stop) = (Bucket::in_memory(), Stop::default());
        let text = LeaseText { holder: "ours".into(), host: "depot".into(), until: until() };
        let mut lease = ObjectLease { bucket: Arc::clone(&bucket), key: "lease".into(), text, tag: None };
        assert_eq!(lease.try_take(&stop).unwrap(), None);
        assert!(lease.renew().unwrap());
        bucket.put("lease", b"{}"[..].into(), &PutHow::default(), &stop).unwrap();
        assert!(!lease.renew().unwrap());
        lease.give_up();
        assert!(bucket.whole("lease", &stop).unwrap().is_some(), "it is not ours to remove");
    }
}
