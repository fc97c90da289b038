//! The clock: the current time, and waiting until a later one.

use std::sync::atomic::{AtomicI64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;
use std::time::Duration;

use jiff::{SignedDuration, Timestamp};

use crate::error::StoreError;
use crate::stop::Stop;

/// How often a wait checks whether it has been asked to stop.
const GLANCE: Duration = Duration::from_millis(50);

/// A clock that can also wait.
pub trait Clock: Send + Sync {
    /// The current instant.
    fn now(&self) -> Timestamp;

    /// Whether that instant was set by someone.
    fn is_set(&self) -> bool {
        false
    }

    /// Waits until an instant.
    ///
    /// # Errors
    ///
    /// Returns [`StoreError::Stopped`] if it is asked to stop meanwhile.
    fn sleep_until(&self, instant: Timestamp, stop: &Stop) -> Result<(), StoreError>;
}

/// The clock of the machine, or a fixed instant in its place, so that a build can be repeated byte for byte.
#[derive(Debug, Clone, Copy, Default)]
pub struct SystemClock {
    fixed: Option<Timestamp>,
}

impl SystemClock {
    /// The machine's clock, or this instant in seconds since 1970 (as `SOURCE_DATE_EPOCH` gives it).
    pub fn new(fixed: Option<i64>) -> Self {
        Self { fixed: fixed.and_then(|seconds| Timestamp::from_second(seconds).ok()) }
    }
}

impl Clock for SystemClock {
    fn now(&self) -> Timestamp {
        self.fixed.unwrap_or_else(Timestamp::now)
    }

    fn is_set(&self) -> bool {
        self.fixed.is_some()
    }

    fn sleep_until(&self, instant: Timestamp, stop: &Stop) -> Result<(), StoreError> {
        // The length of the wait follows from the fixed instant, if there is one; the wait itself takes real time.
        sleep(Duration::try_from(instant.duration_since(self.now())).unwrap_or_default(), stop)
    }
}

/// A clock that begins at an instant and goes on from there. It can be set forward; all copies show the same.
#[derive(Debug, Clone)]
pub struct RunningClock {
    begin: Timestamp,
    since: std::time::Instant,
    /// By how many seconds it was set forward.
    ahead: Arc<AtomicI64>,
}

impl RunningClock {
    /// A clock that shows this instant now.
    pub fn from(begin: Timestamp) -> Self {
        Self { begin, since: std::time::Instant::now(), ahead: Arc::default() }
    }

    /// Sets it forward.
    pub fn advance(&self, by: SignedDuration) {
        self.ahead.fetch_add(by.as_secs(), Ordering::SeqCst);
    }
}

impl Clock for RunningClock {
    fn now(&self) -> Timestamp {
        let ahead = SignedDuration::from_secs(self.ahead.load(Ordering::SeqCst));
        let passed = SignedDuration::try_from(self.since.elapsed()).unwrap_or_default().saturating_add(ahead);
        self.begin.saturating_add(passed).unwrap_or(self.begin)
    }

    fn is_set(&self) -> bool {
        true
    }

    fn sleep_until(&self, instant: Timestamp, stop: &Stop) -> Result<(), StoreError> {
        sleep(Duration::try_from(instant.duration_since(self.now())).unwrap_or_default(), stop)
    }
}

/// Sleeps in real time.
fn sleep(wait: Duration, stop: &Stop) -> Result<(), StoreError> {
    let end = std::time::Instant::now() + wait;
    loop {
        stop.check()?;
        let left = end.saturating_duration_since(std::time::Instant::now());
        if left.is_zero() {
            return Ok(());
        }
        thread::sleep(left.min(GLANCE));
    }
}

/// A clock for tests, set by hand. Waiting moves it forward.
#[derive(Debug, Clone, Default)]
pub struct ManualClock(Arc<Mutex<Timestamp>>);

impl ManualClock {
    /// A clock that shows this instant.
    pub fn at(instant: Timestamp) -> Self {
        Self(Arc::new(Mutex::new(instant)))
    }

    /// Sets it to this instant.
    pub fn set(&self, instant: Timestamp) {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = instant;
    }
}

impl Clock for ManualClock {
    fn now(&self) -> Timestamp {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn sleep_until(&self, instant: Timestamp, stop: &Stop) -> Result<(), StoreError> {
        stop.check()?;
        self.set(instant.max(self.now()));
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(seconds: i64) -> Timestamp {
        Timestamp::from_second(seconds).unwrap()
    }

    #[test]
    fn a_manual_clock_sleeps_by_moving_on_and_never_back() {
        let clock = ManualClock::at(at(100));
        clock.sleep_until(at(160), &Stop::default()).unwrap();
        assert_eq!(clock.now(), at(160));
        clock.sleep_until(at(10), &Stop::default()).unwrap();
        assert_eq!(clock.now(), at(160));
    }

    #[test]
    fn a_running_clock_goes_on_and_can_be_set_forward() {
        let clock = RunningClock::from(at(100));
        let other = clock.clone();
        assert!((100..110).contains(&clock.now().as_second()) && clock.is_set());
        other.advance(SignedDuration::from_secs(3_600));
        assert!((3_700..3_710).contains(&clock.now().as_second()));
        clock.sleep_until(at(50), &Stop::default()).unwrap();
    }

    #[test]
    fn a_sleep_ends_where_it_is_asked_to_stop() {
        let stop = Stop::default();
        stop.ask();
        let clock = SystemClock::new(Some(100));
        assert_eq!(clock.now(), at(100));
        assert!(matches!(clock.sleep_until(at(100_000), &stop), Err(StoreError::Interrupted)));
        assert!(clock.sleep_until(at(100), &Stop::default()).is_ok());
    }
}
