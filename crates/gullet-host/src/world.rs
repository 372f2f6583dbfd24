//! What the core is handed of the outside world: time, randomness, the host, the environment, the wish to stop.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicI32, AtomicU32, Ordering};
use std::time::Duration;

use jiff::Timestamp;

use gullet_model::ids::Random;
use gullet_model::record::Host;

/// Time, as it is asked for and waited for.
pub trait Clock: Send + Sync {
    /// The time of day.
    fn now(&self) -> Timestamp;
    /// Time since some fixed point, on a clock that runs through suspend and is never set.
    fn uptime(&self) -> Duration;
    /// Lets this thread rest for so long.
    fn sleep(&self, time: Duration);
}

/// Whether somebody asked the run to stop. Signal handlers may set it.
#[derive(Debug, Default)]
pub struct Stop {
    signal: AtomicI32,
    times: AtomicU32,
}

impl Stop {
    /// Asks to stop, because of the signal with this number.
    pub fn ask(&self, signal: i32) {
        let _ = self.signal.compare_exchange(0, signal, Ordering::SeqCst, Ordering::SeqCst);
        self.times.fetch_add(1, Ordering::SeqCst);
    }

    /// The signal that asked to stop first, if any did.
    pub fn asked(&self) -> Option<i32> {
        Some(self.signal.load(Ordering::SeqCst)).filter(|signal| *signal != 0)
    }

    /// How often it was asked for: who waits for a person although the first wish came long ago is ended by one more.
    pub fn times(&self) -> u32 {
        self.times.load(Ordering::SeqCst)
    }
}

/// All of it together.
#[derive(Clone, Copy)]
pub struct World<'a> {
    /// The clock, for points in time and spans.
    pub clock: &'a dyn Clock,
    /// The source of random bytes.
    pub random: &'a dyn Random,
    /// The machine that this runs on.
    pub host: &'a Host,
    /// The environment that secrets may be taken from. Hooks do not get it.
    pub environment: &'a BTreeMap<String, String>,
    /// The wish to stop.
    pub stop: &'a Stop,
}
