//! How much one token, or one address, may ask for: so that nobody keeps others from being answered.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use axum::http::StatusCode;
use pondrix_core::{Allowance, Rate};

use super::error::ApiError;
use crate::tuning::CurrentTuning;

/// How many seconds' worth of requests may come at once.
const AT_ONCE: u32 = 10;
/// Runners tell of every step of every job that they have.
const OF_RUNNERS: u32 = 10;
/// As many streams as one token has open.
const STREAMS: usize = 100;
/// As many uploads.
const UPLOADS: usize = 8;
/// As many of whom what they did lately is known. Of more, those are forgotten who did nothing for a while.
const KNOWN: usize = 10_000;

/// Who asks.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(super) enum Whom {
    /// Whoever has a token.
    Token(i64),
    /// A runner, by its token.
    Runner(i64),
    /// Whoever shows nothing, or nothing that is good.
    Address(IpAddr),
}

/// What one may have open only so many of.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(super) enum Kind {
    /// Events, followed.
    Stream,
    /// Files on their way here.
    Upload,
}

/// What everybody asks for now.
#[derive(Debug)]
pub(crate) struct Limits {
    tuning: CurrentTuning,
    began: Instant,
    asked: Mutex<HashMap<Whom, Allowance>>,
    open: Arc<Mutex<HashMap<(i64, Kind), usize>>>,
}

/// Something that is open. It counts until it is dropped.
#[derive(Debug)]
pub(super) struct Open {
    whose: (i64, Kind),
    open: Arc<Mutex<HashMap<(i64, Kind), usize>>>,
}

impl Drop for Open {
    fn drop(&mut self) {
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(count) = open.get_mut(&self.whose) {
            *count -= 1;
            if *count == 0 {
                open.remove(&self.whose);
            }
        }
    }
}

fn too_much(words: String, wait: Duration) -> ApiError {
    ApiError::new(StatusCode::TOO_MANY_REQUESTS, words).after(wait)
}

impl Limits {
    pub(crate) fn new(tuning: CurrentTuning) -> Self {
        Self { tuning, began: Instant::now(), asked: Mutex::default(), open: Arc::default() }
    }

    /// Counts a request of somebody.
    pub(super) fn request(&self, whom: Whom) -> Result<(), ApiError> {
        let Some(requests) = self.tuning.borrow().request_limit else { return Ok(()) };
        let per_second = match whom {
            Whom::Runner(_) => requests.saturating_mul(OF_RUNNERS),
            Whom::Token(_) | Whom::Address(_) => requests,
        };
        let rate = Rate::per_second(per_second, per_second.saturating_mul(AT_ONCE));
        let now = self.began.elapsed().as_micros() as u64;
        let mut asked = self.asked.lock().unwrap_or_else(PoisonError::into_inner);
        if asked.len() >= KNOWN {
            asked.retain(|_, allowance| !allowance.is_rested(now));
        }
        let taken = asked.entry(whom).or_default().take(now, rate);
        taken.map_err(|wait| {
            let whose = if matches!(whom, Whom::Address(_)) { "your address" } else { "this token" };
            let words =
                format!("{whose} asks more than {per_second} times a second (serve --request-limit); wait a moment");
            too_much(words, Duration::from_micros(wait))
        })
    }

    /// Counts something that somebody opens.
    pub(super) fn open(&self, token: i64, kind: Kind) -> Result<Open, ApiError> {
        let (most, what) = match kind {
            Kind::Stream => (STREAMS, "streams open"),
            Kind::Upload => (UPLOADS, "uploads under way"),
        };
        let whose = (token, kind);
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        let count = open.entry(whose).or_default();
        if *count >= most {
            return Err(too_much(format!("this token has {most} {what}, which is the most"), Duration::from_secs(1)));
        }
        *count += 1;
        Ok(Open { whose, open: Arc::clone(&self.open) })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tuning::Tuning;

    fn limits_of(requests: Option<u32>) -> Limits {
        let tuning = Tuning { request_limit: requests, ..Tuning::for_tests().borrow().clone() };
        Limits::new(tokio::sync::watch::channel(tuning).1)
    }

    #[test]
    fn each_has_an_allowance_of_its_own_and_runners_more() {
        let limits = limits_of(Some(1));
        let address = Whom::Address("192.0.2.7".parse().unwrap());
        for whom in [Whom::Token(1), Whom::Token(2), address] {
            let done = (0..50).filter(|_| limits.request(whom).is_ok()).count();
            assert_eq!(done, 10, "{whom:?}");
        }
        assert_eq!((0..500).filter(|_| limits.request(Whom::Runner(1)).is_ok()).count(), 100);
        let any = limits_of(None);
        assert!((0..500).all(|_| any.request(address).is_ok()));
    }

    #[test]
    fn whoever_is_rested_is_forgotten_where_many_are_known() {
        let limits = limits_of(Some(1_000_000));
        for number in 0..2 * KNOWN as u32 {
            limits.request(Whom::Address(IpAddr::V4(number.into()))).unwrap();
        }
        assert!(limits.asked.lock().unwrap().len() <= KNOWN + 1);
    }

    #[test]
    fn what_is_open_counts_until_it_is_closed() {
        let limits = limits_of(None);
        let mut held: Vec<_> = (0..UPLOADS).map(|_| limits.open(1, Kind::Upload).unwrap()).collect();
        assert!(limits.open(1, Kind::Upload).is_err());
        assert!(limits.open(2, Kind::Upload).is_ok() && limits.open(1, Kind::Stream).is_ok());
        held.pop();
        assert!(limits.open(1, Kind::Upload).is_ok());
        drop(held);
        assert!(limits.open.lock().unwrap().is_empty());
    }
}
