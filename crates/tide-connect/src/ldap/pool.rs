//! The connections of a directory: a few, all to the same server, so that several entries are
//! written at once. Who needs a connection borrows the one with the least in flight; another is
//! opened when all are busy.

use super::dial::Dialer;
use crate::access::ConnectionState;
use crate::error::ConnectError;
use ldap3::Ldap;
use std::ops::{Deref, DerefMut};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;
use tokio::sync::Mutex;

/// A connection with this many operations in flight is busy.
const BUSY: usize = 2;
/// After a failure to open a further connection, none is tried for this long.
const REST: Duration = Duration::from_secs(60);

/// The open connections.
pub(super) struct ConnectionPool {
    connections: Mutex<PooledConnections>,
}

#[derive(Default)]
struct PooledConnections {
    open: Vec<OpenConnection>,
    /// When the server refused a further connection.
    refused: Option<tide_clock::Instant>,
}

/// An open connection and its server.
struct OpenConnection {
    ldap: Ldap,
    host: Option<String>,
    since: tide_clock::Instant,
    in_flight: Arc<AtomicUsize>,
}

/// A borrowed connection. It counts as in use until it is dropped.
pub(super) struct Borrowed {
    ldap: Ldap,
    in_flight: Arc<AtomicUsize>,
}

impl Deref for Borrowed {
    type Target = Ldap;

    fn deref(&self) -> &Ldap {
        &self.ldap
    }
}

impl DerefMut for Borrowed {
    fn deref_mut(&mut self) -> &mut Ldap {
        &mut self.ldap
    }
}

impl Drop for Borrowed {
    fn drop(&mut self) {
        self.in_flight.fetch_sub(1, Ordering::AcqRel);
    }
}

impl OpenConnection {
    fn borrow(&self) -> Borrowed {
        self.in_flight.fetch_add(1, Ordering::AcqRel);
        Borrowed {
            ldap: self.ldap.clone(),
            in_flight: self.in_flight.clone(),
        }
    }

    fn load(&self) -> usize {
        self.in_flight.load(Ordering::Acquire)
    }
}

impl ConnectionPool {
    pub(super) fn new() -> ConnectionPool {
        ConnectionPool {
            connections: Mutex::default(),
        }
    }

    /// Borrows a connection; opens one if there is none, or if all are busy and `most` allows it.
    pub(super) async fn borrow(
        &self,
        dialer: &Dialer,
        access: &ConnectionState,
        most: usize,
    ) -> Result<Borrowed, ConnectError> {
        let mut connections = self.connections.lock().await;
        let host = access.host_in_use();
        let settings = &dialer.settings;
        let rest = Duration::from_secs(settings.return_after_seconds.into());
        connections.open.retain_mut(|one| {
            // A backup host is left again, also by a connection that lives on; and all
            // connections are to one server, which shows at once what was written.
            let is_backup = one.host.as_deref().is_some_and(|host| host != settings.url);
            let is_over = is_backup && one.since.elapsed() >= rest;
            !one.ldap.is_closed() && !is_over && one.host == host
        });
        let idlest = connections.open.iter().min_by_key(|one| one.load());
        let may_open = connections.open.len() < most
            && connections
                .refused
                .is_none_or(|since| since.elapsed() >= REST);
        if let Some(idlest) = idlest
            && (idlest.load() < BUSY || !may_open)
        {
            return Ok(idlest.borrow());
        }
        match dialer.connect_bound().await {
            Ok(ldap) => {
                let opened = OpenConnection {
                    ldap,
                    host: access.host_in_use(),
                    since: tide_clock::instant(),
                    in_flight: Arc::default(),
                };
                let borrowed = opened.borrow();
                connections.open.push(opened);
                Ok(borrowed)
            }
            // The server allows no more: those that are open do the work.
            Err(error) if !connections.open.is_empty() => {
                tracing::debug!(%error, "no further connection was opened");
                connections.refused = Some(tide_clock::instant());
                let idlest = connections.open.iter().min_by_key(|one| one.load());
                idlest.map(OpenConnection::borrow).ok_or(error)
            }
            Err(error) => Err(error),
        }
    }

    /// Closes all connections, and returns the server that they were to.
    pub(super) async fn close(&self) -> Option<String> {
        let open = std::mem::take(&mut self.connections.lock().await.open);
        open.into_iter().find_map(|one| one.host)
    }
}
