//! The audit: noting what was done, showing it, and proving that it is whole.

use std::collections::{HashMap, HashSet};
use std::net::IpAddr;
use std::sync::{Arc, Mutex};

use pondrix_api::{AuditPage, AuditProof};
use pondrix_core::Time;
use pondrix_core::access::Need;
use pondrix_core::audit::{AuditResult, Broken, Deed, Link, Place};
use pondrix_core::retention::Age;
use tracing::{error, info, warn};

use super::{Asker, Engine, EngineError, LONGEST_STORE_PAUSE, STORE_PAUSE, locked};
use crate::backoff::Backoff;
use crate::store::{self, AuditFilter, StoreError};

/// How many entries are read at once.
const PIECE: usize = 1000;
/// How many refusals of one address are noted in a minute; there is no end of what strangers try.
const MOST_REFUSALS: u32 = 60;
/// Of how many addresses that is counted at once. What comes from more is counted together.
const MOST_COUNTED: usize = 4096;
/// Of how many tokens and addresses is remembered that they are known together.
const MOST_KNOWN: usize = 4096;
const MINUTE: i64 = 60 * 1000;

/// How often whom was refused in this minute.
#[derive(Debug, Default)]
pub(super) struct Refusals {
    minute: i64,
    counts: HashMap<Option<String>, u32>,
}

/// Whether a refusal is noted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Noted {
    Yes,
    /// And it is the last one of this minute.
    Last,
    No,
}

impl Refusals {
    fn count(&mut self, from: Option<&str>, now: Time) -> Noted {
        let minute = now.millis().div_euclid(MINUTE);
        if minute != self.minute {
            *self = Self { minute, counts: HashMap::new() };
        }
        let key = from.map(str::to_owned);
        let is_counted = self.counts.contains_key(&key) || self.counts.len() < MOST_COUNTED;
        let count = self.counts.entry(if is_counted { key } else { None }).or_default();
        *count = count.saturating_add(1);
        match (*count).cmp(&MOST_REFUSALS) {
            std::cmp::Ordering::Less => Noted::Yes,
            std::cmp::Ordering::Equal => Noted::Last,
            std::cmp::Ordering::Greater => Noted::No,
        }
    }
}

/// Which tokens are known to be used from where.
#[derive(Debug, Default)]
pub(super) struct KnownAddresses(Mutex<HashSet<(i64, String)>>);

/// Where a caller is, as far as it is told apart: a network of version 6 is one house (RFC 6177).
fn place_of(address: IpAddr) -> String {
    match address {
        IpAddr::V4(address) => address.to_string(),
        IpAddr::V6(address) => {
            let house = std::net::Ipv6Addr::from_bits(address.to_bits() & (u128::MAX << 64));
            format!("{house}/64")
        }
    }
}

/// What the server itself did.
pub(crate) fn own_deed(action: &str, target: String, project: Option<&str>) -> Deed {
    Deed {
        who: "the server".to_owned(),
        token: None,
        from: None,
        action: action.to_owned(),
        target,
        project: project.map(str::to_owned),
        result: AuditResult::Done,
        words: String::new(),
    }
}

impl Engine {
    /// Notes what was done.
    pub(crate) async fn note(&self, deed: Deed) -> Result<(), StoreError> {
        let now = self.clock.now();
        self.store.write(move |c| store::note(c, now, deed)).await
    }

    /// The same, again and again while the records cannot be written: what is noted first waits for them.
    pub(crate) async fn note_until_stored(&self, deed: Deed) -> Result<(), StoreError> {
        let now = self.clock.now();
        self.write_until_stored("what is done", move |c| store::note(c, now, deed.clone())).await
    }

    /// Writes, again and again while the records cannot be written; `what` is for the log.
    pub(super) async fn write_until_stored(
        &self,
        what: &str,
        write: impl Fn(&rusqlite::Connection) -> Result<(), StoreError> + Send + Sync + 'static,
    ) -> Result<(), StoreError> {
        let (write, mut backoff) = (Arc::new(write), Backoff::new(STORE_PAUSE, LONGEST_STORE_PAUSE));
        loop {
            let once = Arc::clone(&write);
            match self.store.write(move |c| once(c)).await {
                Err(error) if error.is_transient() => {
                    warn!(%error, what, "this could not be stored yet");
                    backoff.wait().await;
                }
                other => return other,
            }
        }
    }

    /// Notes what was done, where nothing is to be done about it if that fails: the log says what it was.
    pub(crate) async fn note_done(&self, deed: Deed) {
        if let Err(error) = self.note(deed.clone()).await {
            error!(%error, ?deed, "this could not be noted in the audit");
        }
    }

    /// Notes that somebody was refused; of one address so many a minute and no more, and the last of them says so.
    pub(crate) async fn note_refusal(&self, mut deed: Deed) {
        let noted = locked(&self.refusals).count(deed.from.as_deref(), self.clock.now());
        match noted {
            Noted::Yes => {}
            Noted::Last => {
                let words = "more refusals from there in this minute are not noted";
                deed.words = if deed.words.is_empty() { words.to_owned() } else { format!("{}; {words}", deed.words) };
            }
            Noted::No => return,
        }
        deed.result = AuditResult::Refused;
        self.note_done(deed).await;
    }

    /// Notes from where a token is used; `who` has it.
    pub(crate) async fn token_used_from(&self, token: i64, who: &str, address: IpAddr) {
        let place = place_of(address);
        let key = (token, place);
        if locked(&self.known_addresses.0).contains(&key) {
            return;
        }
        let now = self.clock.now();
        let deed = Deed {
            who: who.to_owned(),
            token: Some(token),
            from: Some(address.to_string()),
            words: "for the first time from this address".to_owned(),
            ..own_deed("token use", token.to_string(), None)
        };
        let place = key.1.clone();
        let noted = self.store.write(move |c| {
            if store::token_address(c, token, &place, now)? {
                store::note(c, now, deed)?;
            }
            Ok(())
        });
        match noted.await {
            Ok(()) => {
                let mut known = locked(&self.known_addresses.0);
                if known.len() >= MOST_KNOWN {
                    known.clear();
                }
                known.insert(key);
            }
            // Nobody is kept out because that cannot be noted.
            Err(error) => warn!(%error, "from where a token was used could not be noted"),
        }
    }

    /// What somebody may see of the audit: all, or that of the projects that they administer.
    async fn seen_audit(&self, by: &Asker, mut filter: AuditFilter) -> Result<AuditFilter, EngineError> {
        if !by.rights.allow(Need::Administer, None) {
            let all = self.store.read(store::projects).await?;
            let names = all.into_iter().map(|row| row.project.name.to_string());
            filter.seen = Some(names.filter(|name| by.rights.allow(Need::Administer, Some(name))).collect());
        }
        Ok(filter)
    }

    /// Entries, the newest first.
    pub(crate) async fn audit(
        &self,
        by: &Asker,
        filter: AuditFilter,
        before: Option<u64>,
        limit: usize,
    ) -> Result<AuditPage, EngineError> {
        let filter = self.seen_audit(by, filter).await?;
        let read = move |c: &rusqlite::Connection| {
            let found = store::audit(c, &filter, before, false, limit + 1)?;
            Ok((found, store::audit_start(c)?.1))
        };
        let (mut found, keep) = self.store.read(read).await?;
        let more = found.len() > limit;
        found.truncate(limit);
        let next = found.last().filter(|_| more).map(|link| link.entry.number);
        Ok(AuditPage { entries: found.into_iter().map(Into::into).collect(), next, keep })
    }

    /// Entries after one, the oldest first; nothing after the last.
    pub(crate) async fn audit_onward(
        &self,
        by: &Asker,
        filter: AuditFilter,
        after: u64,
    ) -> Result<Vec<Link>, EngineError> {
        let filter = self.seen_audit(by, filter).await?;
        Ok(self.store.read(move |c| store::audit(c, &filter, Some(after), true, PIECE)).await?)
    }

    /// Whether the chain is whole, and has the entry that is said.
    ///
    /// # Errors
    /// When the entry that is said is kept no more, or has not been yet.
    pub(crate) async fn prove_audit(&self, at: Option<Place>) -> Result<AuditProof, EngineError> {
        let (start, last) = self.store.read(|c| Ok((store::audit_start(c)?.0, store::audit_end(c)?))).await?;
        if let Some(at) = &at {
            let held = self.store.read(store::audit_start).await?.1;
            if at.number < start.number {
                let words = format!(
                    "entry {} is kept no more ({}); the first one that is kept is {}",
                    at.number,
                    told(held),
                    start.number + 1
                );
                return Err(EngineError::Conflict(words));
            }
        }
        let (mut end, mut broken): (Place, Option<Broken>) = (start.clone(), None);
        let mut other = at.as_ref().filter(|at| at.number == start.number && **at != start).map(|at| at.number);
        'all: loop {
            let edge = end.number;
            let usual = AuditFilter::default();
            let links = self.store.read(move |c| store::audit(c, &usual, Some(edge), true, PIECE)).await?;
            if links.is_empty() {
                break;
            }
            for link in links {
                if let Err(found) = end.advance(&link) {
                    broken = Some(found);
                    break 'all;
                }
                if at.as_ref().is_some_and(|at| at.number == end.number && *at != end) {
                    other = Some(end.number);
                }
            }
        }
        let entries = end.number - start.number;
        let broken = match (broken, other, at) {
            (Some(broken), ..) => Some(broken.to_string()),
            (None, Some(number), _) => {
                Some(format!("entry {number} is another one than was noted: the chain was made anew"))
            }
            (None, None, Some(at)) if at.number > end.number => {
                Some(format!("entry {} is not there: the last one is {}", at.number, end.number))
            }
            // Written while it was looked at: more than that there is none.
            (None, None, _) if end.number < last.number => {
                Some(format!("entry {} is not there, and {} is", end.number + 1, last.number))
            }
            _ => None,
        };
        if let Some(broken) = &broken {
            error!(broken, "the audit is not whole");
        }
        Ok(AuditProof { entries, start, end, broken })
    }

    /// Says how long entries are kept.
    pub(crate) async fn keep_audit(&self, age: Age) -> Result<(), EngineError> {
        crate::audit::words(told(age));
        self.store.write_noted(self.clock.now(), move |c| store::keep_audit(c, age)).await?;
        self.upkeep_wanted.notify_one();
        Ok(())
    }

    /// Removes entries that were kept for long enough.
    pub(super) async fn forget_audit(&self) -> Result<(), StoreError> {
        let Age::For(long) = self.store.read(store::audit_start).await?.1 else { return Ok(()) };
        let before = self.clock.now().plus_millis(-i64::from(long.seconds()) * 1000);
        let mut forgotten = 0;
        loop {
            let gone = self.piece(self.store.write(move |c| store::forget_audit(c, before, PIECE))).await?;
            forgotten += gone;
            if gone < PIECE {
                break;
            }
        }
        if forgotten > 0 {
            let words = format!("{forgotten} entries from before {before}");
            info!(forgotten, "entries of the audit were kept for long enough");
            self.note(Deed { words, ..own_deed("audit forget", String::new(), None) }).await?;
        }
        Ok(())
    }

    /// Writes to the server's log where the audit ends: what is kept elsewhere proves later that nothing was changed.
    pub(crate) async fn tell_audit(self: &Arc<Self>) -> Result<(), StoreError> {
        let end = self.store.read(store::audit_end).await?;
        info!(%end, "the audit ends here");
        Ok(())
    }
}

fn told(age: Age) -> String {
    match age {
        Age::For(long) => format!("kept for {long}"),
        Age::Forever => "kept for ever".to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn so_many_refusals_of_an_address_are_noted_in_a_minute_and_the_last_says_so() {
        let mut refusals = Refusals::default();
        let (now, later) = (Time::from_millis(120_000), Time::from_millis(180_000));
        let noted: Vec<_> = (0..100).map(|_| refusals.count(Some("10.0.0.1"), now)).collect();
        assert_eq!(noted.iter().filter(|noted| **noted == Noted::Yes).count(), 59);
        assert_eq!(noted[59], Noted::Last);
        assert!(noted[60..].iter().all(|noted| *noted == Noted::No));
        assert_eq!(refusals.count(Some("10.0.0.2"), now), Noted::Yes, "another address");
        assert_eq!(refusals.count(Some("10.0.0.1"), later), Noted::Yes, "another minute");
        for address in 0..MOST_COUNTED + 200 {
            refusals.count(Some(&address.to_string()), later);
        }
        assert!(refusals.counts.len() <= MOST_COUNTED + 1, "{}", refusals.counts.len());
        assert_eq!(refusals.count(Some("one more"), later), Noted::No, "counted with all others");
    }

    #[test]
    fn addresses_of_one_house_are_one() {
        let of = |text: &str| place_of(text.parse().unwrap());
        assert_eq!(of("10.0.0.1"), "10.0.0.1");
        assert_eq!(of("2001:db8:1:2:3:4:5:6"), "2001:db8:1:2::/64");
        assert_eq!(of("2001:db8:1:2::9"), of("2001:db8:1:2:3:4:5:6"));
    }
}
