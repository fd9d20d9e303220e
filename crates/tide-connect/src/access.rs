//! The state that all connectors to one system share: what may be written, enforced in one place,
//! and what was learned while connecting, such as the host that answers and the token in use.

use crate::{ConnectError, Secret};
use governor::{DefaultDirectRateLimiter, Quota, RateLimiter};
use std::collections::HashMap;
use std::num::NonZeroU32;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, RwLock};
use std::time::Duration;
use tide_clock::Instant;
use tide_core::ObjectType;
use tokio::sync::Semaphore;

/// What may be written in a system, type by type, and what is known of the way there. Shared by all
/// who hold a connector to it, and changed while they do.
#[derive(Default)]
pub struct ConnectionState {
    writable: RwLock<Vec<ObjectType>>,
    gate: RwLock<Option<Arc<dyn WriteGate>>>,
    hosts: Mutex<Hosts>,
    pace: Mutex<Option<RequestLimits>>,
    token: tokio::sync::Mutex<Option<AccessToken>>,
    feed: Mutex<FeedMemory>,
    read_by_rules: Arc<RwLock<Vec<String>>>,
    server_filters: RwLock<Vec<tide_ldap::LdapFilter>>,
    mark_key: RwLock<Option<Vec<u8>>>,
    /// Since when the password of the service account is known to have expired.
    expired: Mutex<Option<(Instant, ConnectError)>>,
}

/// How long an expired password is not retried automatically: each attempt can cost a grace
/// sign-in.
const EXPIRED: Duration = Duration::from_secs(3600);

/// Whether writes to a system are stopped at this moment. Called before each write, after
/// everything that was decided or queued.
pub trait WriteGate: Send + Sync {
    /// Why nothing may be written, as a sentence; none when the system may be written.
    fn closed(&self) -> Option<String>;
}

/// The proof that a write was permitted. Only [`ConnectionState::permit_write`] creates one, and
/// the functions that send a write require it.
#[derive(Debug)]
pub struct Permit(());

#[derive(Default)]
struct Hosts {
    in_use: Option<String>,
    failed: HashMap<String, Instant>,
}

/// How fast requests may go out.
#[derive(Clone)]
pub(crate) struct RequestLimits {
    settings: (u16, Option<u16>),
    pub places: Arc<Semaphore>,
    pub rate: Option<Arc<DefaultDirectRateLimiter>>,
    /// Until when the service requested a pause.
    pub rest: Arc<Mutex<Option<Instant>>>,
}

/// An access token, and when it must be renewed.
#[derive(Clone)]
pub(crate) struct AccessToken {
    pub secret: Secret,
    pub renew: Instant,
}

/// The state of a feed between reads.
#[derive(Debug, Clone, Default)]
pub struct FeedMemory {
    /// How many rows the last complete reading showed.
    pub rows: Option<usize>,
    /// Folders that files may be read from.
    pub folders: Vec<PathBuf>,
    /// The ETag of the file whose rows were stored last.
    pub(crate) etag: Option<String>,
    /// The ETag of the downloaded file, until its rows are stored.
    pub(crate) offered: Option<String>,
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    // A poisoned lock holds a whole value: what it guards is replaced, never half edited.
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl ConnectionState {
    /// Access to these types; to none by default.
    pub fn new(writable: &[ObjectType]) -> Self {
        ConnectionState {
            writable: RwLock::new(writable.to_vec()),
            ..ConnectionState::default()
        }
    }

    /// Changes what may be written, from the next write on.
    pub fn set(&self, writable: &[ObjectType]) {
        *self
            .writable
            .write()
            .unwrap_or_else(PoisonError::into_inner) = writable.to_vec();
    }

    /// Sets the attributes that the rules read, for systems that return some only on request.
    pub fn set_read_by_rules(&self, names: Vec<String>) {
        *self
            .read_by_rules
            .write()
            .unwrap_or_else(PoisonError::into_inner) = names;
    }

    /// Sets the filters that only the server can evaluate; they are evaluated there for each
    /// account.
    pub fn set_server_filters(&self, filters: Vec<tide_ldap::LdapFilter>) {
        *self
            .server_filters
            .write()
            .unwrap_or_else(PoisonError::into_inner) = filters;
    }

    /// The filters that the server evaluates for each account.
    pub(crate) fn server_filters(&self) -> Vec<tide_ldap::LdapFilter> {
        self.server_filters
            .read()
            .unwrap_or_else(PoisonError::into_inner)
            .clone()
    }

    /// Sets the key of password marks. It does not depend on the bind secret: with another key,
    /// every password would seem to have changed.
    pub fn set_mark_key(&self, key: Vec<u8>) {
        *self
            .mark_key
            .write()
            .unwrap_or_else(PoisonError::into_inner) = Some(key);
    }

    /// The key of the marks that reveal changed passwords; none where no marks are stored.
    pub(crate) fn mark_key(&self) -> Option<Vec<u8>> {
        self.mark_key
            .read()
            .unwrap_or_else(PoisonError::into_inner)
            .clone()
    }

    /// The attributes that the rules read, as they change.
    pub(crate) fn read_by_rules(&self) -> Arc<RwLock<Vec<String>>> {
        self.read_by_rules.clone()
    }

    /// Records that the password of the service account has expired, or that a bind succeeded
    /// again.
    pub(crate) fn note_expired(&self, error: Option<&ConnectError>) {
        *lock(&self.expired) = error.map(|error| (tide_clock::instant(), error.clone()));
    }

    /// The error of an expired password, while binds are suspended.
    pub(crate) fn expired(&self) -> Option<ConnectError> {
        lock(&self.expired)
            .as_ref()
            .filter(|(since, _)| since.elapsed() < EXPIRED)
            .map(|(_, error)| error.clone())
    }

    /// Sets the gate that is checked before each write.
    pub fn set_gate(&self, gate: Arc<dyn WriteGate>) {
        *self.gate.write().unwrap_or_else(PoisonError::into_inner) = Some(gate);
    }

    /// Whether accounts of a type may be written while writes are not stopped.
    pub fn is_writable(&self, object: ObjectType) -> bool {
        self.writable
            .read()
            .unwrap_or_else(PoisonError::into_inner)
            .contains(&object)
    }

    /// Why accounts of a type are not written at this moment, if they are not: the system is
    /// read-only for them, or writes are stopped.
    pub fn write_stop_of(&self, object: ObjectType) -> Option<ConnectError> {
        if !self.is_writable(object) {
            let remedy = format!(
                "make it writable first: `eager-tide systems set NAME --writable {object}`"
            );
            return Some(ConnectError::stopped(
                "read_only",
                format!("the system is read-only for type {object}: nothing was sent"),
                remedy,
            ));
        }
        let gate = self
            .gate
            .read()
            .unwrap_or_else(PoisonError::into_inner)
            .clone();
        let said = gate?.closed()?;
        Some(ConnectError::stopped(
            "writes_stopped",
            format!("not sent: {said}"),
            "decided again when the system may be written",
        ))
    }

    /// Permits one write, or returns why not.
    pub fn permit_write(&self, object: ObjectType) -> Result<Permit, ConnectError> {
        self.write_stop_of(object).map_or(Ok(Permit(())), Err)
    }

    /// The host that answered last, if any did.
    pub fn host_in_use(&self) -> Option<String> {
        lock(&self.hosts).in_use.clone()
    }

    /// Hosts in the order in which they should be tried: one that failed a moment ago comes last.
    pub(crate) fn host_order(&self, hosts: &[String], return_after: Duration) -> Vec<String> {
        let known = lock(&self.hosts);
        let resting = |host: &String| {
            known
                .failed
                .get(host)
                .is_some_and(|at| at.elapsed() < return_after)
        };
        let (last, first): (Vec<String>, Vec<String>) = hosts.iter().cloned().partition(resting);
        first.into_iter().chain(last).collect()
    }

    pub(crate) fn host_answered(&self, host: &str) {
        let mut known = lock(&self.hosts);
        known.failed.remove(host);
        if known.in_use.as_deref() != Some(host) {
            if let Some(before) = &known.in_use {
                tracing::warn!(
                    previous_host = before,
                    host,
                    "switched to another host of the system"
                );
            }
            known.in_use = Some(host.to_owned());
        }
    }

    pub(crate) fn host_failed(&self, host: &str) {
        lock(&self.hosts)
            .failed
            .insert(host.to_owned(), tide_clock::instant());
    }

    /// The rate limiter for these settings, kept while they stay the same.
    pub(crate) fn pace(&self, in_flight: u16, per_second: Option<u16>) -> RequestLimits {
        let mut pace = lock(&self.pace);
        match pace.as_ref() {
            Some(known) if known.settings == (in_flight, per_second) => known.clone(),
            _ => {
                let rate = per_second.and_then(|n| NonZeroU32::new(n.into())).map(|n| {
                    // One at a time: a burst at the start of each second would be over the limit of
                    // a strict service.
                    let quota = Quota::per_second(n).allow_burst(NonZeroU32::MIN);
                    Arc::new(RateLimiter::direct(quota))
                });
                let places = Arc::new(Semaphore::new(usize::from(in_flight.max(1))));
                let new = RequestLimits {
                    settings: (in_flight, per_second),
                    places,
                    rate,
                    rest: Arc::default(),
                };
                *pace = Some(new.clone());
                new
            }
        }
    }

    pub(crate) fn token(&self) -> &tokio::sync::Mutex<Option<AccessToken>> {
        &self.token
    }

    /// The state of a feed between reads.
    pub fn feed(&self) -> FeedMemory {
        lock(&self.feed).clone()
    }

    /// Notes that the last read of a feed was stored: an unchanged file is not downloaded again.
    pub fn feed_was_kept(&self) {
        self.set_feed(|memory| memory.etag = memory.offered.take().or_else(|| memory.etag.take()));
    }

    /// Changes what a feed remembers.
    pub fn set_feed(&self, change: impl FnOnce(&mut FeedMemory)) {
        change(&mut lock(&self.feed));
    }
}

impl std::fmt::Debug for ConnectionState {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Access")
            .field("writable", &self.writable)
            .field("host", &self.host_in_use())
            .finish_non_exhaustive()
    }
}

impl RequestLimits {
    /// Waits until a request may be sent; dropping the result frees its slot.
    pub async fn wait(&self) -> Option<tokio::sync::SemaphorePermit<'_>> {
        let place = self.places.acquire().await.ok();
        if let Some(rate) = &self.rate {
            rate.until_ready().await;
        }
        loop {
            let rest = lock(&self.rest)
                .and_then(|until| until.checked_duration_since(tide_clock::instant()));
            match rest {
                Some(rest) => tide_clock::sleep(rest).await,
                None => return place,
            }
        }
    }

    /// Pauses requests as the service requested.
    pub fn rest_for(&self, pause: Duration) {
        let until = tide_clock::instant() + pause;
        let mut rest = lock(&self.rest);
        if rest.is_none_or(|known| known < until) {
            *rest = Some(until);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_host_that_failed_comes_last_until_its_rest_is_over() {
        let access = ConnectionState::default();
        let hosts = ["a".to_owned(), "b".to_owned()];
        let rest = Duration::from_secs(60);
        assert_eq!(access.host_order(&hosts, rest), ["a", "b"]);
        access.host_failed("a");
        access.host_answered("b");
        assert_eq!(access.host_order(&hosts, rest), ["b", "a"]);
        assert_eq!(access.host_in_use().as_deref(), Some("b"));
        assert_eq!(
            access.host_order(&hosts, Duration::ZERO),
            ["a", "b"],
            "it is tried first again after a while"
        );
    }

    #[tokio::test(start_paused = true)]
    async fn requests_in_flight_are_bounded() {
        let pace = ConnectionState::default().pace(2, None);
        let (one, two) = (pace.wait().await, pace.wait().await);
        assert!(one.is_some() && two.is_some());
        assert!(
            tokio::time::timeout(Duration::from_secs(5), pace.wait())
                .await
                .is_err(),
            "a third waits"
        );
        drop(one);
        assert!(
            tokio::time::timeout(Duration::from_secs(5), pace.wait())
                .await
                .is_ok()
        );
    }
}
