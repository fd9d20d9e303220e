//! The LDAP connector: dialling, testing, reading in pages, browsing, writing.

mod change_events;
mod classes;
mod dial;
mod entry;
mod pool;
mod reader;
mod result;
mod schema;
mod server_filters;
mod write;

use crate::{
    CheckReport, ConnectError, ConnectionState, Connector, Description, DirectoryNode,
    LdapSettings, Secret, SnapshotItem, SnapshotStream, Write,
};
use async_trait::async_trait;
use change_events::lost_by_limit;
use dial::Dialer;
use entry::Containers;
use ldap3::controls::{Assertion, Control, ControlType, PagedResults, RawControl};
use ldap3::{Ldap, Scope, SearchEntry};
use pool::{Borrowed, ConnectionPool};
use reader::{DirectoryReader, RawPage};
use result::check_result;
use schema::DirectoryCapabilities;
use std::collections::{HashSet, VecDeque};
use std::sync::Arc;
use tide_core::model::Observed;
use tide_core::states::{CheckStepKind, WatchMode};
use tide_core::{ObjectType, Value};
use tide_ldap::wire::{SearchRequest, SearchScope};
use tide_ldap::{Dn, LdapFilter};
use tokio::sync::{OnceCell, mpsc};
use tokio::task::JoinHandle;

/// How many entries are counted below a container, before the counting ends with "or more".
const COUNTED: usize = 2000;
/// Entries written at a time over each connection.
const IN_FLIGHT: usize = 16;
/// The control by which a write has a condition.
const ASSERTION: &str = "1.3.6.1.1.12";

/// A directory.
pub struct LdapConnector {
    dialer: Dialer,
    access: Arc<ConnectionState>,
    /// The connections that write and find; opened when needed.
    pool: ConnectionPool,
    known: OnceCell<Arc<DirectoryCapabilities>>,
}

/// Where and what is searched.
struct Search<'a> {
    base: &'a str,
    scope: Scope,
    filter: &'a str,
    attributes: Vec<String>,
}

/// One page of a search.
struct Page {
    entries: Vec<SearchEntry>,
    /// Other servers that the server names.
    referrals: Vec<String>,
    /// Where the next page begins; empty at the end.
    next: Vec<u8>,
}

impl LdapConnector {
    /// A connector that is not connected yet.
    pub fn new(
        settings: LdapSettings,
        secret: Option<Secret>,
        access: Arc<ConnectionState>,
    ) -> Result<Self, ConnectError> {
        let dialer = Dialer::new(settings, secret, access.clone())?;
        Ok(LdapConnector {
            dialer,
            access,
            pool: ConnectionPool::new(),
            known: OnceCell::new(),
        })
    }

    fn settings(&self) -> &LdapSettings {
        &self.dialer.settings
    }

    /// The server's capabilities, read once.
    async fn capabilities(
        &self,
        ldap: &mut Ldap,
    ) -> Result<&Arc<DirectoryCapabilities>, ConnectError> {
        self.known
            .get_or_try_init(|| async {
                let mut known = schema::read_capabilities(ldap, self.settings()).await?;
                known.mark_key = self
                    .settings()
                    .mark_passwords
                    .then(|| self.access.mark_key())
                    .flatten();
                known.read_by_rules = self.access.read_by_rules();
                known.object_classes = classes::of(self.settings());
                Ok(Arc::new(known))
            })
            .await
    }

    /// Borrows a connection.
    async fn with_connection(&self) -> Result<Borrowed, ConnectError> {
        let most = self.connections();
        self.pool.borrow(&self.dialer, &self.access, most).await
    }

    /// How many connections there may be.
    fn connections(&self) -> usize {
        self.settings().connections.clamp(1, 16).into()
    }

    /// A host that refers writes to another server is a read-only replica: if there are other
    /// hosts, it is left.
    async fn leave_replica(&self, error: &ConnectError) -> bool {
        if error.code != "referral" || self.settings().backups.is_empty() {
            return false;
        }
        let Some(host) = self.pool.close().await else {
            return false;
        };
        tracing::warn!(host, "the host is read-only; trying another host");
        self.access.host_failed(&host);
        true
    }

    /// Tests whether the server accepts writes, with a change that can never be applied (RFC 4528
    /// assertion): a writable server answers that the assertion failed, a replica refers to another
    /// server.
    async fn check_writing(
        &self,
        ldap: &mut Ldap,
        known: &DirectoryCapabilities,
        report: &mut CheckReport,
    ) {
        // What is read-only for us gets no write, not even one that can have no effect.
        let writes = [ObjectType::Person, ObjectType::Group]
            .into_iter()
            .any(|object| self.access.is_writable(object));
        if !writes || !known.offers(ASSERTION) {
            return;
        }
        let mut never = Assertion::new("(objectClass=tideNever)");
        never.crit = true;
        let changes = vec![ldap3::Mod::Replace(
            "description",
            HashSet::from(["never written"]),
        )];
        let asked = ldap
            .with_controls(vec![never])
            .with_timeout(dial::timeout_of(self.settings()));
        let Ok(result) = asked.modify(&self.settings().base_dn, changes).await else {
            return;
        };
        if matches!(result.rc, 10 | 53) {
            let to = result
                .refs
                .first()
                .map(|url| format!(", and refers to {url}"))
                .unwrap_or_default();
            report.warned(
                CheckStepKind::Writable,
                format!("no: the server is read-only (code {}){to}", result.rc),
                "for a target, give the address of a writable server; reads work here",
            );
        }
    }

    /// Reads one page (RFC 2696). Attributes of which the server returns a range are read
    /// completely.
    async fn read_page(
        &self,
        ldap: &mut Ldap,
        search: &Search<'_>,
        cookie: Vec<u8>,
    ) -> Result<Page, ConnectError> {
        self.page_with(ldap, search, cookie, None).await
    }

    /// The same, with a further control.
    async fn page_with(
        &self,
        ldap: &mut Ldap,
        search: &Search<'_>,
        cookie: Vec<u8>,
        control: Option<RawControl>,
    ) -> Result<Page, ConnectError> {
        let settings = self.settings();
        // Not critical: a server without paging answers in one page, which is complete as well.
        let paged: RawControl = PagedResults {
            size: i32::from(settings.page_size),
            cookie,
        }
        .into();
        let answer = ldap
            .with_controls(
                [Some(paged), control]
                    .into_iter()
                    .flatten()
                    .collect::<Vec<_>>(),
            )
            .with_timeout(dial::timeout_of(settings))
            .search(
                search.base,
                search.scope,
                search.filter,
                search.attributes.clone(),
            )
            .await
            .map_err(|error| dial::connection_error(&settings.url, &error))?;
        let result = answer.1;
        check_result(&result, &format!("reading below {}", search.base))?;
        let next = result.ctrls.iter().find_map(|Control(kind, raw)| {
            matches!(kind, Some(ControlType::PagedResults))
                .then(|| std::panic::catch_unwind(|| raw.parse::<PagedResults>().cookie))
        });
        let next = match next {
            None => Vec::new(),
            Some(Ok(cookie)) => cookie,
            // The library's parser panics on a malformed control; for us it is a broken server.
            Some(Err(_)) => {
                return Err(ConnectError::transient(
                    "page_broken",
                    "the server's paging control cannot be read",
                    "report it to the administrator of the server",
                ));
            }
        };
        // The library gathers the references of a search in its result.
        let mut page = Page {
            entries: Vec::with_capacity(answer.0.len()),
            referrals: result.refs,
            next,
        };
        for entry in answer.0 {
            if !entry.is_ref() && !entry.is_intermediate() {
                page.entries.push(entry::open(entry)?);
            }
        }
        for entry in &mut page.entries {
            self.read_on(ldap, entry).await?;
        }
        Ok(page)
    }

    /// Reads the rest of attributes that came with a range: a large group's members.
    async fn read_on(&self, ldap: &mut Ldap, entry: &mut SearchEntry) -> Result<(), ConnectError> {
        let begun: Vec<(String, String, usize)> = entry
            .attrs
            .keys()
            .filter_map(|name| {
                entry::rest_of(name).map(|(plain, from)| (name.clone(), plain.to_owned(), from))
            })
            .collect();
        for (ranged, plain, mut from) in begun {
            let mut values = entry.attrs.remove(&ranged).unwrap_or_default();
            loop {
                let asked = format!("{plain};range={from}-*");
                let answer = ldap
                    .with_timeout(dial::timeout_of(self.settings()))
                    .search(
                        &entry.dn,
                        Scope::Base,
                        "(objectClass=*)",
                        vec![asked.as_str()],
                    )
                    .await
                    .map_err(|error| dial::connection_error(&self.settings().url, &error))?;
                check_result(
                    &answer.1,
                    &format!("reading on in {} of {}", plain, entry.dn),
                )?;
                let part = answer
                    .0
                    .into_iter()
                    .find(|e| !e.is_ref())
                    .map(entry::open)
                    .transpose()?;
                let prefix = format!("{};range=", plain.to_lowercase());
                let found = part.and_then(|part| {
                    part.attrs
                        .into_iter()
                        .find(|(name, _)| name.to_lowercase().starts_with(&prefix))
                });
                // It changed while it was read: what is missing must not be taken for gone.
                let Some((name, more)) = found else {
                    return Err(ConnectError::transient(
                        "range_broken",
                        format!("{} of {} ended before its last range", plain, entry.dn),
                        "it is read again",
                    ));
                };
                values.extend(more);
                match entry::rest_of(&name) {
                    Some((_, next)) if next > from => from = next,
                    _ => break,
                }
            }
            entry.attrs.insert(plain, values);
        }
        Ok(())
    }

    async fn enumerate(
        &self,
        object: ObjectType,
        out: &mpsc::Sender<Result<SnapshotItem, ConnectError>>,
    ) -> Result<usize, ConnectError> {
        let known = match self.known.get() {
            Some(known) => known,
            None => {
                let mut ldap = self.with_connection().await?;
                self.capabilities(&mut ldap).await?
            }
        };
        let filter = known.class_filter(object);
        let attributes = known.requested_attributes();
        let mut reader: DirectoryReader = self.dialer.connect_bound().await?;
        let mut keys: HashSet<String> = HashSet::new();
        let mut left: VecDeque<(Option<String>, String)> =
            VecDeque::from([(None, self.settings().base_dn.clone())]);
        let mut visited: HashSet<(Option<String>, String)> = left.iter().cloned().collect();
        while let Some((elsewhere, base)) = left.pop_front() {
            if let Some(url) = &elsewhere {
                reader.unbind().await;
                reader = self.dialer.connect_referral(url).await?;
            }
            let size = self.settings().page_size.into();
            let first = SearchRequest {
                base: &base,
                reach: SearchScope::Subtree,
                filter: &filter,
                attributes: &attributes,
                page: Some((size, &[])),
            };
            reader.request_page(&first).await?;
            // Converts a page into accounts while the next page is being received.
            let mut making: Option<JoinHandle<Result<ConvertedPage, ConnectError>>> = None;
            let mut more = true;
            while more {
                let page = reader.read_part().await?;
                if let Some((result, next)) = &page.ended {
                    check_result(result, &format!("reading below {base}"))?;
                    more = !next.is_empty();
                    if more {
                        reader
                            .request_page(&SearchRequest {
                                page: Some((size, next)),
                                ..first
                            })
                            .await?;
                    }
                }
                self.hand_on(making.take(), elsewhere.as_deref(), &mut keys, out)
                    .await?;
                // Followed only to hosts that were named: any other names a part that is not ours.
                let ours = page
                    .referrals
                    .iter()
                    .filter(|url| self.dialer.follows_referral(url));
                let places = ours.map(|url| {
                    (
                        Some(url.clone()),
                        dial::referral_base(url).unwrap_or_else(|| base.clone()),
                    )
                });
                left.extend(
                    places
                        .filter(|place| visited.insert(place.clone()))
                        .collect::<Vec<_>>(),
                );
                let known = known.clone();
                making = Some(tokio::task::spawn_blocking(move || made(&page, &known)));
            }
            self.hand_on(making, elsewhere.as_deref(), &mut keys, out)
                .await?;
        }
        reader.unbind().await;
        Ok(keys.len())
    }

    /// Hands a page on, each account once. What came in parts is read whole first.
    async fn hand_on(
        &self,
        making: Option<JoinHandle<Result<ConvertedPage, ConnectError>>>,
        elsewhere: Option<&str>,
        keys: &mut HashSet<String>,
        out: &mpsc::Sender<Result<SnapshotItem, ConnectError>>,
    ) -> Result<(), ConnectError> {
        let Some(making) = making else { return Ok(()) };
        let stopped = |why: String| ConnectError::transient("stopped", why, "start it again");
        let ConvertedPage {
            mut batch,
            in_parts,
        } = making.await.map_err(|error| stopped(error.to_string()))??;
        if !in_parts.is_empty() {
            let (mut own, mut other);
            let ldap: &mut Ldap = match elsewhere {
                None => {
                    own = self.with_connection().await?;
                    &mut own
                }
                Some(url) => {
                    other = self.dialer.connect_referral(url).await?;
                    &mut other
                }
            };
            let known = self.capabilities(ldap).await?;
            for dn in &in_parts {
                let search = Search {
                    base: dn,
                    scope: Scope::Base,
                    filter: "(objectClass=*)",
                    attributes: known.requested_attributes(),
                };
                let page = self.read_page(ldap, &search, Vec::new()).await?;
                batch.extend(
                    page.entries
                        .iter()
                        .map(|entry| entry::account_of_entry(entry, known)),
                );
            }
        }
        batch.retain(|observed| keys.insert(observed.key.clone()));
        if batch.is_empty() {
            return Ok(());
        }
        // Another server's entries are unknown here, which must not be taken for "does not hold".
        if let (None, Some(known)) = (elsewhere, self.known.get()) {
            self.evaluate_server_filters(known, &mut batch).await?;
        }
        out.send(Ok(SnapshotItem::Batch(batch)))
            .await
            .map_err(|_| stopped("the read was stopped".into()))
    }

    /// The entries that fit a filter, on the shared connection.
    async fn search_entries(&self, filter: &LdapFilter) -> Result<Vec<Observed>, ConnectError> {
        let mut ldap = self.with_connection().await?;
        let known = self.capabilities(&mut ldap).await?;
        let filter = filter.to_string();
        let search = Search {
            base: &self.settings().base_dn,
            scope: Scope::Subtree,
            filter: &filter,
            attributes: known.requested_attributes(),
        };
        let page = self.read_page(&mut ldap, &search, Vec::new()).await?;
        let mut found: Vec<Observed> = page
            .entries
            .iter()
            .map(|entry| entry::account_of_entry(entry, known))
            .collect();
        self.evaluate_server_filters(known, &mut found).await?;
        Ok(found)
    }

    async fn by_key(&self, key: &str, name: &str) -> Result<Observed, ConnectError> {
        let mut ldap = self.with_connection().await?;
        let filter = self.capabilities(&mut ldap).await?.key_filter(key);
        self.search_entries(&filter)
            .await?
            .into_iter()
            .next()
            .ok_or_else(|| {
                ConnectError::permanent(
                    "gone",
                    format!("{name} no longer exists"),
                    "read the system again to find deletions",
                )
            })
    }

    /// Checks that the base exists and is readable. The error names the nearest entry that
    /// exists.
    async fn check_base(&self, ldap: &mut Ldap) -> Result<(), ConnectError> {
        let base = &self.settings().base_dn;
        let asked: Dn = base.parse().map_err(|error: tide_ldap::DnError| {
            ConnectError::permanent(
                "base_dn",
                error.to_string(),
                "for example: dc=skerry,dc=example",
            )
        })?;
        let answer = ldap
            .with_timeout(dial::timeout_of(self.settings()))
            .search(base, Scope::Base, "(objectClass=*)", vec!["1.1"])
            .await
            .map_err(|error| dial::connection_error(&self.settings().url, &error))?;
        let anonymous = self.settings().auth == crate::LdapAuth::Simple
            && self
                .settings()
                .bind_dn
                .as_deref()
                .unwrap_or_default()
                .is_empty();
        let empty = answer.1.rc == 0 && !answer.0.iter().any(|e| !e.is_ref());
        let contexts = schema::naming_contexts(ldap).await;
        let held = contexts
            .iter()
            .filter_map(|c| c.parse::<Dn>().ok())
            .any(|context| context == asked);
        match answer.1.rc {
            1 | 8 | 48 | 50 | 53 if anonymous => Err(ConnectError::permanent(
                "anonymous_refused",
                "the server shows nothing to anonymous clients",
                "give a service account and its password",
            )),
            32 if held && anonymous => Err(ConnectError::permanent(
                "anonymous_refused",
                format!("the server has {base}, but does not show it to anonymous clients"),
                "give a service account and its password",
            )),
            32 | 0 if held && (answer.1.rc == 32 || empty) => Err(ConnectError::permanent(
                "rights",
                format!("the server has {base}, but the service account may not read it"),
                "give the service account permission to read and search below it",
            )),
            32 => {
                let near = if answer.1.matched.is_empty() {
                    tide_core::expr::closest_name(base, contexts.iter().map(String::as_str))
                        .unwrap_or_default()
                        .to_owned()
                } else {
                    answer.1.matched.clone()
                };
                let near = if near.is_empty() {
                    near
                } else {
                    format!("; the nearest entry that exists is {near}")
                };
                let help = if contexts.is_empty() {
                    "check the base DN".to_owned()
                } else {
                    format!(
                        "check the base DN; this server holds {}",
                        contexts.join(" · ")
                    )
                };
                Err(ConnectError::permanent(
                    "base_missing",
                    format!("the base DN {base} does not exist{near}"),
                    help,
                ))
            }
            _ => check_result(&answer.1, "reading the base DN"),
        }
    }

    /// The containers directly below an entry.
    async fn list_containers(
        &self,
        ldap: &mut Ldap,
        below: Option<&str>,
    ) -> Result<Vec<DirectoryNode>, ConnectError> {
        let known = self.capabilities(ldap).await?;
        let attributes: Vec<String> = ["objectClass", "hasSubordinates", "numSubordinates"]
            .map(str::to_owned)
            .to_vec();
        let filter = match below {
            None => "(objectClass=*)".to_owned(),
            Some(_) => classes::any_of(classes::CONTAINERS).to_string(),
        };
        let base = below.unwrap_or(&self.settings().base_dn).to_owned();
        let scope = if below.is_some() {
            Scope::OneLevel
        } else {
            Scope::Base
        };
        let search = Search {
            base: &base,
            scope,
            filter: &filter,
            attributes,
        };
        let mut cookie = Vec::new();
        let mut branches = Vec::new();
        loop {
            let page = self.read_page(ldap, &search, cookie).await?;
            for entry in page.entries {
                let leaf = entry.attrs.iter().any(|(name, values)| {
                    (name.eq_ignore_ascii_case("hasSubordinates")
                        && values.iter().any(|v| v.eq_ignore_ascii_case("false")))
                        || (name.eq_ignore_ascii_case("numSubordinates")
                            && values.iter().any(|v| v == "0"))
                });
                branches.push(DirectoryNode {
                    dn: entry.dn,
                    leaf,
                    people: None,
                    more: false,
                });
            }
            if page.next.is_empty() {
                break;
            }
            cookie = page.next;
        }
        let persons = known.class_filter(ObjectType::Person).to_string();
        for branch in &mut branches {
            let (count, more) = self.count_below(ldap, &branch.dn, &persons).await?;
            branch.people = Some(count);
            branch.more = more;
        }
        branches.sort_by_key(|branch| branch.dn.to_lowercase());
        Ok(branches)
    }

    /// How many entries below a container fit a filter; counting ends at a limit.
    async fn count_below(
        &self,
        ldap: &mut Ldap,
        base: &str,
        filter: &str,
    ) -> Result<(usize, bool), ConnectError> {
        let search = Search {
            base,
            scope: Scope::Subtree,
            filter,
            attributes: vec!["1.1".to_owned()],
        };
        let (mut count, mut cookie) = (0, Vec::new());
        loop {
            let page = self.read_page(ldap, &search, cookie).await?;
            count += page.entries.len();
            if page.next.is_empty() {
                return Ok((count, false));
            }
            if count >= COUNTED {
                return Ok((count, true));
            }
            cookie = page.next;
        }
    }

    /// Reports which referrals of the first page are followed.
    fn report_referrals(&self, report: &mut CheckReport, page: Page) {
        let (followed, left): (Vec<&str>, Vec<&str>) = page
            .referrals
            .iter()
            .map(String::as_str)
            .partition(|url| self.dialer.follows_referral(url));
        let part = |urls: &[&str], what: &str| {
            (!urls.is_empty()).then(|| format!("{what}: {}", urls.join(" · ")))
        };
        let parts = [part(&followed, "followed"), part(&left, "not followed")];
        let parts = parts.into_iter().flatten().collect::<Vec<_>>().join("; ");
        report.passed(
            CheckStepKind::Referrals,
            format!("the server refers to other servers; {parts}"),
        );
    }
}

/// The result of a page.
struct ConvertedPage {
    batch: Vec<Observed>,
    /// The names of entries of which the server showed a part only.
    in_parts: Vec<String>,
}

fn made(page: &RawPage, known: &DirectoryCapabilities) -> Result<ConvertedPage, ConnectError> {
    let mut made = ConvertedPage {
        batch: Vec::new(),
        in_parts: Vec::new(),
    };
    let mut containers = Containers::default();
    let each = &mut |entry: tide_ldap::wire::Entry<'_>| {
        if entry
            .attributes()
            .any(|(name, _)| entry::rest_of(name).is_some())
        {
            made.in_parts.push(entry.dn.to_owned());
        } else {
            made.batch.push(entry::build_account(
                entry.dn,
                entry.attributes(),
                known,
                &mut containers,
            ));
        }
    };
    page.entries(each).map_err(reader::protocol_error)?;
    Ok(made)
}

#[async_trait]
impl Connector for LdapConnector {
    async fn check(&self, report: &mut CheckReport) {
        let Some(mut ldap) = self.dialer.check(report).await else {
            return;
        };
        match self.check_base(&mut ldap).await {
            Ok(()) => report.passed(CheckStepKind::BaseDn, self.settings().base_dn.clone()),
            Err(error) => return report.failed(CheckStepKind::BaseDn, &error),
        }
        let known = match self.capabilities(&mut ldap).await {
            Ok(known) => known,
            Err(error) => return report.failed(CheckStepKind::Schema, &error),
        };
        report.passed(CheckStepKind::Schema, known.labels().join(" · "));
        let filter = known.class_filter(ObjectType::Person).to_string();
        let search = Search {
            base: &self.settings().base_dn,
            scope: Scope::Subtree,
            filter: &filter,
            attributes: known.requested_attributes(),
        };
        match self.read_page(&mut ldap, &search, Vec::new()).await {
            Err(error) => return report.failed(CheckStepKind::FirstEntries, &error),
            Ok(page) => {
                let count = page.entries.len();
                let more = if page.next.is_empty() {
                    "in all"
                } else {
                    "on the first page, and more follow"
                };
                if count == 0 {
                    report.warned(
                        CheckStepKind::FirstEntries,
                        "no person is readable below the base DN",
                        "check the base DN, and that the service account may read entries and their objectClass",
                    );
                } else {
                    let shows_key = |entry: &&SearchEntry| {
                        let names = entry.attrs.keys().chain(entry.bin_attrs.keys());
                        names
                            .into_iter()
                            .any(|name| name.eq_ignore_ascii_case(known.key))
                    };
                    let hidden = count - page.entries.iter().filter(shows_key).count();
                    if hidden > 0 {
                        let error = ConnectError::permanent(
                            "key_hidden",
                            format!(
                                "{hidden} of {count} entries do not show their {}, the stable identifier",
                                known.key
                            ),
                            format!("give the service account permission to read {}", known.key),
                        );
                        return report.failed(CheckStepKind::FirstEntries, &error);
                    }
                    let names: Vec<&str> =
                        page.entries.iter().take(3).map(|e| e.dn.as_str()).collect();
                    report.passed(
                        CheckStepKind::FirstEntries,
                        format!("{count} persons {more}; the first: {}", names.join(" · ")),
                    );
                }
                if !page.referrals.is_empty() {
                    self.report_referrals(report, page);
                }
            }
        }
        self.check_classes(&mut ldap, &known.clone(), report).await;
        self.check_watching(&mut ldap, &known.clone(), report).await;
        self.check_writing(&mut ldap, &known.clone(), report).await;
        self.dialer.check_backups(report).await;
    }

    async fn describe(&self) -> Result<Description, ConnectError> {
        let mut ldap: Ldap = self.dialer.connect_bound().await?;
        let known = self.capabilities(&mut ldap).await?;
        // Asked of the server, which knows us by other names than the settings do (RFC 4532).
        let mut own: Vec<String> = self
            .settings()
            .bind_dn
            .iter()
            .map(|name| name.to_lowercase())
            .collect();
        if let Ok((exop, _)) = ldap
            .extended(ldap3::exop::WhoAmI)
            .await
            .and_then(|answer| answer.success())
            && let Some(Ok(who)) = exop.val.map(String::from_utf8)
        {
            own.push(
                who.trim_start_matches("dn:")
                    .trim_start_matches("u:")
                    .to_lowercase(),
            );
        }
        Ok(Description {
            schema: known.schemas(),
            abilities: known.labels(),
            profile: known.profile(),
            own,
        })
    }

    async fn browse(&self, below: Option<&str>) -> Result<Vec<DirectoryNode>, ConnectError> {
        if let Some(dn) = below {
            let inside = dn
                .parse::<Dn>()
                .ok()
                .zip(self.settings().base_dn.parse::<Dn>().ok())
                .is_some_and(|(dn, base)| dn.is_under(&base));
            if !inside {
                return Err(ConnectError::permanent(
                    "outside",
                    format!("{dn} does not lie below the base DN"),
                    "browse from the top",
                ));
            }
        }
        let mut ldap = self.with_connection().await?;
        self.list_containers(&mut ldap, below).await
    }

    fn accounts_at_a_time(&self) -> Option<usize> {
        Some(self.connections() * IN_FLIGHT)
    }

    fn read_all(self: Arc<Self>, object: ObjectType) -> SnapshotStream {
        crate::spawn_snapshot(move |out| async move {
            self.enumerate(object, &out)
                .await
                .map(SnapshotItem::Complete)
        })
    }

    async fn watch_modes(&self) -> Result<Vec<WatchMode>, ConnectError> {
        let mut ldap = self.with_connection().await?;
        let known = self.capabilities(&mut ldap).await?.clone();
        Ok(self
            .proved_ways(&mut ldap, &known)
            .await
            .into_iter()
            .map(|(way, _)| way)
            .collect())
    }

    async fn current_cursor(
        &self,
        _object: ObjectType,
        way: WatchMode,
    ) -> Result<Option<String>, ConnectError> {
        self.mark_of(way).await
    }

    fn watch(
        self: Arc<Self>,
        object: ObjectType,
        way: WatchMode,
        from: Option<String>,
    ) -> crate::ChangeStream {
        crate::change_events::follow(move |out| async move {
            let (told, news) = mpsc::channel(8);
            let telling = async {
                let ended = match (way, from) {
                    (WatchMode::ContentSync, from) => self.sync_content(object, from, &told).await,
                    (WatchMode::ChangeNumber, Some(from)) => {
                        lost_by_limit(self.poll_change_numbers(object, &from, &told).await, &told)
                            .await
                    }
                    (WatchMode::Modified, Some(from)) => {
                        lost_by_limit(self.poll_modified(object, &from, &told).await, &told).await
                    }
                    _ => {
                        let text = format!(
                            "a directory does not support the watch mode {}",
                            way.as_str()
                        );
                        Err(ConnectError::permanent(
                            "no_way",
                            text,
                            "choose another watch mode",
                        ))
                    }
                };
                drop(told);
                ended
            };
            let (told, handed_on) = tokio::join!(telling, self.annotate_news(news, &out));
            handed_on.and(told)
        })
    }

    async fn find(
        &self,
        _object: ObjectType,
        probes: &[(String, Value)],
    ) -> Result<Vec<Observed>, ConnectError> {
        let parts: Vec<LdapFilter> = probes
            .iter()
            .map(|(name, value)| LdapFilter::equal(name, &value.to_string()))
            .collect();
        if parts.is_empty() {
            Ok(Vec::new())
        } else {
            self.search_entries(&LdapFilter::Any(parts)).await
        }
    }

    async fn password_hash(
        &self,
        key: &str,
    ) -> Result<Option<zeroize::Zeroizing<String>>, ConnectError> {
        let mut ldap = self.with_connection().await?;
        let filter = self
            .capabilities(&mut ldap)
            .await?
            .key_filter(key)
            .to_string();
        let attributes = vec!["userPassword".to_owned()];
        let search = Search {
            base: &self.settings().base_dn,
            scope: Scope::Subtree,
            filter: &filter,
            attributes,
        };
        let page = self.read_page(&mut ldap, &search, Vec::new()).await?;
        let values = page.entries.first().and_then(|entry| {
            entry
                .attrs
                .iter()
                .find(|(name, _)| name.eq_ignore_ascii_case("userPassword"))
        });
        // What is no hash, of a scheme that it names (RFC 2307), is not carried.
        let hash =
            values.and_then(|(_, values)| values.iter().find(|value| value.starts_with('{')));
        Ok(hash.map(|hash| zeroize::Zeroizing::new(hash.clone())))
    }

    async fn write_membership(&self, write: &Write) -> Result<(), ConnectError> {
        let permit = self.access.permit_write(write.object)?;
        let mut ldap = self.with_connection().await?;
        let known = self.capabilities(&mut ldap).await?;
        if write.member.is_some() {
            match self.change_member(&mut ldap, known, write).await {
                // The group may have another name by now.
                Err(error) if error.code == "no_such_object" => {}
                Err(error) if self.leave_replica(&error).await => {
                    ldap = self.with_connection().await?
                }
                other => return other,
            }
        }
        self.send_write(&mut ldap, known, write, &permit)
            .await
            .map(|_| ())
    }

    async fn write(&self, write: &Write) -> Result<Observed, ConnectError> {
        let permit = self.access.permit_write(write.object)?;
        let mut ldap = self.with_connection().await?;
        let known = self.capabilities(&mut ldap).await?;
        let done = match self.send_write(&mut ldap, known, write, &permit).await {
            Err(error) if self.leave_replica(&error).await => {
                ldap = self.with_connection().await?;
                self.send_write(&mut ldap, known, write, &permit).await?
            }
            other => other?,
        };
        match done {
            write::WrittenAccount::Keyed(key, name) => self.by_key(&key, &name).await,
            write::WrittenAccount::Gone(key, name) => Ok(Observed {
                key,
                name,
                attributes: tide_core::Attributes::new(),
                fault: None,
                version: None,
                is_exact: true,
            }),
            write::WrittenAccount::Named(dn) => {
                let answer = ldap
                    .search(
                        &dn,
                        Scope::Base,
                        "(objectClass=*)",
                        known.requested_attributes(),
                    )
                    .await
                    .map_err(|error| dial::connection_error(&self.settings().url, &error))?;
                check_result(&answer.1, &format!("reading {dn} back"))?;
                let entry = answer.0.into_iter().find(|e| !e.is_ref()).ok_or_else(|| {
                    ConnectError::unknown_outcome(
                        "not_read_back",
                        format!("{dn} was created and cannot be read"),
                        "give the service account permission to read what it creates",
                    )
                })?;
                let mut made = [entry::account_of_entry(&entry::open(entry)?, known)];
                self.evaluate_server_filters(known, &mut made).await?;
                let [made] = made;
                Ok(made)
            }
        }
    }
}
