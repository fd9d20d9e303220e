//! Watches a directory: by content synchronization (RFC 4533) where it is offered, by the change
//! numbers of a domain controller, or by modification times.

use super::schema::{self, DirectoryCapabilities};
use super::{LdapConnector, Search, check_result, dial, entry};
use crate::change_events::{ChangeEvent, stopped};
use crate::{CheckReport, ConnectError};
use ldap3::controls::{
    Control, ControlType, MakeCritical, RawControl, SyncRequest, SyncState, parse_syncinfo,
};
use ldap3::controls::{EntryState, RefreshMode, SyncInfo};
use ldap3::{Ldap, ResultEntry, Scope, SearchEntry};
use std::collections::HashSet;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tide_core::ObjectType;
use tide_core::model::Observed;
use tide_core::states::{CheckStepKind, WatchMode};
use tide_ldap::{Dn, LdapFilter};
use tokio::sync::mpsc;

/// The controls by which a way is known.
const CONTENT_SYNC: &str = "1.3.6.1.4.1.4203.1.9.1.1";
const SHOW_DELETED: &str = "1.2.840.113556.1.4.417";
/// How often the connection is probed.
const PULSE: Duration = Duration::from_secs(30);
/// How far back the first poll goes if the server's clock is not known.
const FIRST_LOOK: i64 = 24 * 3600;

type Out = mpsc::Sender<Result<ChangeEvent, ConnectError>>;

/// Runs a parser of the library, which panics on what it cannot read; here that is an error of
/// the server.
fn catch_panic<T>(parse: impl FnOnce() -> T) -> Result<T, ConnectError> {
    catch_unwind(AssertUnwindSafe(parse)).map_err(|_| {
        ConnectError::transient(
            "sync_broken",
            "a message of the server is invalid",
            "a full read follows; report it to the administrator of the server",
        )
    })
}

/// A UUID as the text of keys.
fn uuid_text(bytes: &[u8]) -> Option<String> {
    Some(uuid::Uuid::from_slice(bytes).ok()?.to_string())
}

/// A position in a domain controller's history: a number within one database, whose id changes
/// after a restore.
fn number_of(mark: &str) -> Option<(u64, &str)> {
    let (number, database) = mark.split_once('@')?;
    Some((number.parse().ok()?, database))
}

impl LdapConnector {
    /// How this server's changes can be known, the best first: only what it was seen to do. Beside
    /// each, why a better one is left out.
    pub(super) async fn proved_ways(
        &self,
        ldap: &mut Ldap,
        known: &DirectoryCapabilities,
    ) -> Vec<(WatchMode, Option<String>)> {
        let (mut ways, mut doubt) = (Vec::new(), None);
        if known.offers(CONTENT_SYNC) && known.key == "entryUUID" {
            match self.tells_keys(ldap).await {
                Ok(()) => ways.push((WatchMode::ContentSync, None)),
                Err(why) => doubt = Some(why),
            }
        }
        if known.controller && known.offers(SHOW_DELETED) {
            match self.shows_deleted(ldap).await {
                Ok(()) => ways.push((WatchMode::ChangeNumber, None)),
                Err(why) => doubt = Some(why),
            }
        }
        ways.extend([(WatchMode::Modified, doubt), (WatchMode::FullRead, None)]);
        ways
    }

    /// Reports in a connection test how changes are detected, and what a better method would
    /// need.
    pub(super) async fn check_watching(
        &self,
        ldap: &mut Ldap,
        known: &DirectoryCapabilities,
        report: &mut CheckReport,
    ) {
        match self.proved_ways(ldap, known).await.into_iter().next() {
            Some((way, None)) => report.passed(CheckStepKind::Changes, way.label()),
            Some((way, Some(why))) => {
                let text = format!("{}, once an hour: {why}", way.label());
                let help = if known.controller {
                    "give the service account permission to list and read `CN=Deleted Objects`"
                } else {
                    "enable content synchronization with entryUUID, if deletions must be noticed sooner"
                };
                report.warned(CheckStepKind::Changes, text, help);
            }
            None => {}
        }
    }

    /// Returns whether content synchronization identifies entries by their keys (RFC 4533 §2.1).
    /// With other UUIDs, deletions could not be assigned.
    async fn tells_keys(&self, ldap: &mut Ldap) -> Result<(), String> {
        let control: RawControl = SyncRequest {
            mode: RefreshMode::RefreshOnly,
            cookie: None,
            reload_hint: false,
        }
        .critical()
        .into();
        let search = ldap
            .with_controls(vec![control])
            .with_timeout(dial::timeout_of(self.settings()))
            .search(
                &self.settings().base_dn,
                Scope::Base,
                "(objectClass=*)",
                vec!["entryUUID"],
            );
        let (entries, result) = match search.await {
            Ok(answer) => (answer.0, answer.1),
            Err(error) => return Err(format!("content synchronization does not answer ({error})")),
        };
        if result.rc != 0 {
            return Err(format!(
                "content synchronization is refused (code {}) {}",
                result.rc,
                result.text.trim()
            ));
        }
        if let Some(entry) = entries
            .into_iter()
            .find(|entry| !entry.is_ref() && !entry.is_intermediate())
        {
            let state = sync_state(&entry).map_err(|error| error.message)?;
            let named = state.and_then(|state| uuid_text(&state.entry_uuid));
            let entry = entry::open(entry).map_err(|error| error.message)?;
            let own = entry
                .attrs
                .iter()
                .find(|(name, _)| name.eq_ignore_ascii_case("entryUUID"))
                .and_then(|(_, values)| values.first());
            return match (named, own) {
                (Some(named), Some(own)) if named.eq_ignore_ascii_case(own) => Ok(()),
                (Some(named), Some(own)) => Err(format!(
                    "content synchronization names entries by another UUID ({named}) than their entryUUID ({own})"
                )),
                _ => {
                    Err("content synchronization does not show the entryUUID of entries".to_owned())
                }
            };
        }
        Err("content synchronization does not show the base entry".to_owned())
    }

    /// Whether the service account can see deleted objects. A domain controller returns nothing
    /// without the permission, and no error: at least one deleted object must be visible.
    async fn shows_deleted(&self, ldap: &mut Ldap) -> Result<(), String> {
        let context = self
            .naming_context(ldap)
            .await
            .map_err(|error| error.message)?;
        let container = format!("CN=Deleted Objects,{context}");
        let show = RawControl {
            ctype: SHOW_DELETED.to_owned(),
            crit: true,
            val: None,
        };
        let attributes = vec!["1.1".to_owned()];
        let search = Search {
            base: &container,
            scope: Scope::OneLevel,
            filter: "(isDeleted=TRUE)",
            attributes,
        };
        match self.page_with(ldap, &search, Vec::new(), Some(show)).await {
            Ok(page) if !page.entries.is_empty() => Ok(()),
            Ok(_) => Err(format!(
                "no deleted objects are visible ({container}): the service account lacks the permission, or there are none yet"
            )),
            Err(error) => Err(format!(
                "the service account may not see deleted objects ({container}): {}",
                error.message
            )),
        }
    }

    /// The naming context that holds the base.
    async fn naming_context(&self, ldap: &mut Ldap) -> Result<String, ConnectError> {
        let base: Option<Dn> = self.settings().base_dn.parse().ok();
        let contexts = schema::naming_contexts(ldap).await;
        let holds = |context: &&String| {
            context
                .parse::<Dn>()
                .ok()
                .zip(base.as_ref())
                .is_some_and(|(c, base)| *base == c || base.is_under(&c))
        };
        Ok(contexts
            .iter()
            .filter(holds)
            .max_by_key(|c| c.len())
            .cloned()
            .unwrap_or_else(|| self.settings().base_dn.clone()))
    }

    /// Values of one entry.
    async fn entry_values(
        &self,
        ldap: &mut Ldap,
        dn: &str,
        name: &str,
    ) -> Result<Vec<String>, ConnectError> {
        let answer = ldap
            .with_timeout(dial::timeout_of(self.settings()))
            .search(dn, Scope::Base, "(objectClass=*)", vec![name])
            .await
            .map_err(|error| dial::connection_error(&self.settings().url, &error))?;
        let Some(found) = answer.0.into_iter().find(|e| !e.is_ref()) else {
            return Ok(Vec::new());
        };
        let mut entry = entry::open(found)?;
        if let Some((_, octets)) = entry
            .bin_attrs
            .iter()
            .find(|(n, _)| n.eq_ignore_ascii_case(name))
        {
            return Ok(octets.iter().map(hex::encode).collect());
        }
        let found = entry
            .attrs
            .keys()
            .find(|n| n.eq_ignore_ascii_case(name))
            .cloned();
        Ok(found
            .and_then(|n| entry.attrs.remove(&n))
            .unwrap_or_default())
    }

    /// The server's current position in its history.
    pub(super) async fn mark_of(&self, way: WatchMode) -> Result<Option<String>, ConnectError> {
        let mut ldap = self.with_connection().await?;
        match way {
            WatchMode::ContentSync => {
                let context = self.naming_context(&mut ldap).await?;
                let mut numbers = self.entry_values(&mut ldap, &context, "contextCSN").await?;
                numbers.sort();
                // As the server writes its own (its cookie is opaque by the standard; without this
                // one the first following begins with everything).
                Ok((!numbers.is_empty()).then(|| format!("rid=000,csn={}", numbers.join(";"))))
            }
            WatchMode::ChangeNumber => self
                .highest_change_number(&mut ldap)
                .await
                .map(|(number, database)| Some(format!("{number}@{database}"))),
            _ => {
                let from = tide_clock::now()
                    .saturating_sub(jiff::SignedDuration::from_secs(FIRST_LOOK))
                    .unwrap_or_default();
                Ok(Some(from.strftime("%Y%m%d%H%M%SZ").to_string()))
            }
        }
    }

    /// A domain controller's highest change number, and which database it counts.
    async fn highest_change_number(&self, ldap: &mut Ldap) -> Result<(u64, String), ConnectError> {
        let number = self
            .entry_values(ldap, "", "highestCommittedUSN")
            .await?
            .first()
            .and_then(|n| n.parse().ok());
        let service = self
            .entry_values(ldap, "", "dsServiceName")
            .await?
            .into_iter()
            .next()
            .unwrap_or_default();
        let database = self
            .entry_values(ldap, &service, "invocationId")
            .await
            .unwrap_or_default()
            .into_iter()
            .next();
        number
            .map(|number| (number, database.unwrap_or(service)))
            .ok_or_else(|| {
                ConnectError::permanent(
                    "no_change_number",
                    "the server does not say its highest change number",
                    "choose another watch mode",
                )
            })
    }

    /// Runs content synchronization until it fails or the receiver is dropped.
    pub(super) async fn sync_content(
        &self,
        object: ObjectType,
        from: Option<String>,
        out: &Out,
    ) -> Result<(), ConnectError> {
        let mut ldap: Ldap = self.dialer.connect_bound().await?;
        let known = self.capabilities(&mut ldap).await?.clone();
        let settings = self.settings();
        let request = SyncRequest {
            mode: RefreshMode::RefreshAndPersist,
            cookie: from.clone().map(String::into_bytes),
            reload_hint: false,
        };
        let control: RawControl = request.critical().into();
        let filter =
            LdapFilter::Any(vec![known.class_filter(object), container_filter()]).to_string();
        let places = self.container_keys(&known).await?;
        // A server that is gone without a word is noticed too.
        let mut pulse = ldap.clone();
        let wait = dial::timeout_of(settings);
        let beating = async move {
            loop {
                tide_clock::sleep(PULSE).await;
                if pulse
                    .with_timeout(wait)
                    .extended(ldap3::exop::WhoAmI)
                    .await
                    .is_err()
                {
                    return;
                }
            }
        };
        let mut stream = ldap
            .with_controls(vec![control])
            .streaming_search(
                &settings.base_dn,
                Scope::Subtree,
                &filter,
                known.requested_attributes(),
            )
            .await
            .map_err(|error| dial::connection_error(&settings.url, &error))?;
        let telling = async {
            let mut refreshed = false;
            loop {
                let next = match refreshed {
                    true => stream.next().await,
                    false => tokio::time::timeout(wait * SILENCE, stream.next())
                        .await
                        .map_err(|_| silence_error(&settings.url, wait * SILENCE))?,
                };
                let Some(entry) =
                    next.map_err(|error| dial::connection_error(&settings.url, &error))?
                else {
                    break;
                };
                refreshed |= entry.is_intermediate();
                for news in sync_events(entry, &known, from.is_some())? {
                    let news = self
                        .with_what_moved(object, news, &places, &known, from.is_some())
                        .await?;
                    if matches!(&news, ChangeEvent::Changed(all) if all.is_empty()) {
                        continue;
                    }
                    let lost = matches!(news, ChangeEvent::ResyncRequired(_));
                    out.send(Ok(news)).await.map_err(stopped)?;
                    if lost {
                        return Ok(());
                    }
                }
            }
            end_of_stream(out, stream).await?
        };
        tokio::select! {
            ended = telling => ended,
            () = beating => Err(ConnectError::transient("cut", format!("{} no longer answers", settings.url), "retried automatically")),
        }
    }

    /// Polls a domain controller for objects with a higher change number.
    pub(super) async fn poll_change_numbers(
        &self,
        object: ObjectType,
        from: &str,
        out: &Out,
    ) -> Result<(), ConnectError> {
        let mut ldap: Ldap = self.dialer.connect_bound().await?;
        let known = self.capabilities(&mut ldap).await?.clone();
        let (now, database) = self.highest_change_number(&mut ldap).await?;
        let before = number_of(from);
        let Some((since, _)) = before.filter(|(since, same)| *same == database && *since <= now)
        else {
            let why =
                "the domain controller is another one, or was restored from a backup".to_owned();
            return out
                .send(Ok(ChangeEvent::ResyncRequired(why)))
                .await
                .map_err(stopped);
        };
        let grown = |more: LdapFilter| {
            LdapFilter::All(vec![
                LdapFilter::AtLeast("uSNChanged".into(), (since + 1).to_string().into_bytes()),
                more,
            ])
        };
        let context = self.naming_context(&mut ldap).await?;
        let base: Option<Dn> = self.settings().base_dn.parse().ok();
        let filter = grown(known.class_filter(object)).to_string();
        // The whole context: who moved out of what we read is gone for us.
        let search = Search {
            base: &context,
            scope: Scope::Subtree,
            filter: &filter,
            attributes: known.requested_attributes(),
        };
        self.send_changed(out, &mut ldap, &known, &base, search)
            .await?;
        // What lies in a container that was moved or renamed has another name now, and no greater
        // number.
        let is_old = LdapFilter::Not(Box::new(LdapFilter::AtLeast(
            "uSNCreated".into(),
            (since + 1).to_string().into_bytes(),
        )));
        let moved = grown(LdapFilter::All(vec![container_filter(), is_old])).to_string();
        let search = Search {
            base: &context,
            scope: Scope::Subtree,
            filter: &moved,
            attributes: vec!["objectGUID".to_owned()],
        };
        for place in self.all_pages(&mut ldap, &search).await? {
            let inside = lies_below(&base, &place);
            let below = self.accounts_below(object, &place.dn, &known).await?;
            match inside {
                true => send_events(out, below, Vec::new()).await?,
                false => {
                    send_events(
                        out,
                        Vec::new(),
                        below.into_iter().map(|account| account.key).collect(),
                    )
                    .await?
                }
            }
        }
        let deleted = grown(LdapFilter::equal("isDeleted", "TRUE")).to_string();
        let attributes = ["objectGUID", "isDeleted"].map(str::to_owned).to_vec();
        let search = Search {
            base: &context,
            scope: Scope::Subtree,
            filter: &deleted,
            attributes,
        };
        self.send_deleted(out, ldap, known, search).await?;
        out.send(Ok(ChangeEvent::Checkpoint(format!("{now}@{database}"))))
            .await
            .map_err(stopped)
    }

    /// Sends the entries with a greater change number: those below the base as changed, others as
    /// gone.
    async fn send_changed(
        &self,
        out: &mpsc::Sender<Result<ChangeEvent, ConnectError>>,
        ldap: &mut Ldap,
        known: &Arc<DirectoryCapabilities>,
        base: &Option<Dn>,
        search: Search<'_>,
    ) -> Result<(), ConnectError> {
        let mut cookie = Vec::new();
        loop {
            let page = self.read_page(ldap, &search, cookie).await?;
            let inside = |entry: &&SearchEntry| {
                entry
                    .dn
                    .parse::<Dn>()
                    .ok()
                    .zip(base.as_ref())
                    .is_some_and(|(dn, b)| dn == *b || dn.is_under(b))
            };
            let (here, elsewhere): (Vec<&SearchEntry>, Vec<&SearchEntry>) =
                page.entries.iter().partition(inside);
            let changed: Vec<_> = here
                .into_iter()
                .map(|entry| entry::account_of_entry(entry, known))
                .collect();
            let gone: Vec<String> = elsewhere
                .into_iter()
                .map(|entry| entry::account_of_entry(entry, known).key)
                .collect();
            send_events(out, changed, gone).await?;
            if page.next.is_empty() {
                break;
            }
            cookie = page.next;
        }
        Ok(())
    }

    /// Sends the keys of the entries that were deleted.
    async fn send_deleted(
        &self,
        out: &mpsc::Sender<Result<ChangeEvent, ConnectError>>,
        mut ldap: Ldap,
        known: Arc<DirectoryCapabilities>,
        search: Search<'_>,
    ) -> Result<(), ConnectError> {
        let mut cookie = Vec::new();
        loop {
            let show = RawControl {
                ctype: SHOW_DELETED.to_owned(),
                crit: true,
                val: None,
            };
            let page = self
                .page_with(&mut ldap, &search, cookie, Some(show))
                .await?;
            send_events(
                out,
                Vec::new(),
                page.entries
                    .iter()
                    .map(|entry| entry::account_of_entry(entry, &known).key)
                    .collect(),
            )
            .await?;
            if page.next.is_empty() {
                break;
            }
            cookie = page.next;
        }
        Ok(())
    }

    /// Polls for objects that were modified since an instant of the server's clock.
    pub(super) async fn poll_modified(
        &self,
        object: ObjectType,
        from: &str,
        out: &Out,
    ) -> Result<(), ConnectError> {
        let mut ldap = self.with_connection().await?;
        let known = self.capabilities(&mut ldap).await?.clone();
        let at_least = LdapFilter::AtLeast(
            "modifyTimestamp".into(),
            shift_time(from, -LOOK_BACK).into_bytes(),
        );
        // A container is listed once: all accounts in it are read by that.
        let later = LdapFilter::AtLeast("modifyTimestamp".into(), shift_time(from, 1).into_bytes());
        let moved = LdapFilter::All(vec![later, container_filter()]).to_string();
        let filter = LdapFilter::All(vec![at_least, known.class_filter(object)]).to_string();
        let mut attributes = known.requested_attributes();
        attributes.push("modifyTimestamp".to_owned());
        let search = Search {
            base: &self.settings().base_dn,
            scope: Scope::Subtree,
            filter: &filter,
            attributes,
        };
        let (mut last, mut cookie) = (from.to_owned(), Vec::new());
        let attributes = vec!["modifyTimestamp".to_owned()];
        let places = Search {
            base: &self.settings().base_dn,
            scope: Scope::Subtree,
            filter: &moved,
            attributes,
        };
        for place in self.all_pages(&mut ldap, &places).await? {
            let at = place
                .attrs
                .iter()
                .find(|(name, _)| name.eq_ignore_ascii_case("modifyTimestamp"));
            last = at
                .and_then(|(_, values)| values.first().cloned())
                .unwrap_or_default()
                .max(last);
            let below = self.accounts_below(object, &place.dn, &known).await?;
            send_events(out, below, Vec::new()).await?;
        }
        loop {
            let mut page = self.read_page(&mut ldap, &search, cookie).await?;
            let mut changed = Vec::with_capacity(page.entries.len());
            for entry in &mut page.entries {
                // Requested only for the cursor: stored, it would make each record differ each
                // time.
                let name = entry
                    .attrs
                    .keys()
                    .find(|name| name.eq_ignore_ascii_case("modifyTimestamp"))
                    .cloned();
                if let Some(at) = name
                    .and_then(|name| entry.attrs.remove(&name))
                    .and_then(|values| values.into_iter().next())
                {
                    last = last.max(at);
                }
                changed.push(entry::account_of_entry(entry, &known));
            }
            send_events(out, changed, Vec::new()).await?;
            if page.next.is_empty() {
                return out
                    .send(Ok(ChangeEvent::Checkpoint(last)))
                    .await
                    .map_err(stopped);
            }
            cookie = page.next;
        }
    }
}

/// What the end of the search means: a full read must follow, or an error.
async fn end_of_stream(
    out: &mpsc::Sender<Result<ChangeEvent, ConnectError>>,
    mut stream: ldap3::SearchStream<'_, String, Vec<String>>,
) -> Result<Result<(), ConnectError>, ConnectError> {
    let ended = stream.finish().await;
    Ok(match ended.rc {
        // What we know is older or newer than what it can tell from (RFC 4533 §3.6, and a
        // server restored from a backup); or there is more to tell than a limit allows,
        // which reading in pages does not meet.
        3 | 4 | 11 | 53 | 4096 => {
            let why = format!(
                "the server cannot continue from the last position (code {}): {}",
                ended.rc,
                ended.text.trim()
            );
            out.send(Ok(ChangeEvent::ResyncRequired(why)))
                .await
                .map_err(stopped)
        }
        _ => {
            check_result(&ended, "watching the directory")?;
            Err(ConnectError::transient(
                "cut",
                "the server ended the subscription",
                "it is restarted automatically",
            ))
        }
    })
}

/// Whether an entry is the base or lies below it.
fn lies_below(base: &Option<Dn>, place: &SearchEntry) -> bool {
    place
        .dn
        .parse::<Dn>()
        .ok()
        .zip(base.as_ref())
        .is_some_and(|(dn, b)| dn == *b || dn.is_under(b))
}

impl LdapConnector {
    pub(super) async fn all_pages(
        &self,
        ldap: &mut Ldap,
        search: &Search<'_>,
    ) -> Result<Vec<SearchEntry>, ConnectError> {
        let (mut all, mut cookie) = (Vec::new(), Vec::new());
        loop {
            let page = self.read_page(ldap, search, cookie).await?;
            all.extend(page.entries);
            if page.next.is_empty() {
                return Ok(all);
            }
            cookie = page.next;
        }
    }

    /// The accounts of a type below a container, as they are now.
    async fn accounts_below(
        &self,
        object: ObjectType,
        container: &str,
        known: &DirectoryCapabilities,
    ) -> Result<Vec<Observed>, ConnectError> {
        let mut ldap = self.with_connection().await?;
        let filter = known.class_filter(object).to_string();
        let search = Search {
            base: container,
            scope: Scope::Subtree,
            filter: &filter,
            attributes: known.requested_attributes(),
        };
        let entries = self.all_pages(&mut ldap, &search).await?;
        Ok(entries
            .iter()
            .map(|entry| entry::account_of_entry(entry, known))
            .collect())
    }

    /// The keys of the containers below the base.
    async fn container_keys(
        &self,
        known: &DirectoryCapabilities,
    ) -> Result<Arc<Mutex<HashSet<String>>>, ConnectError> {
        let mut ldap = self.with_connection().await?;
        let filter = container_filter().to_string();
        let attributes = vec![known.key.to_owned()];
        let search = Search {
            base: &self.settings().base_dn,
            scope: Scope::Subtree,
            filter: &filter,
            attributes,
        };
        let entries = self.all_pages(&mut ldap, &search).await?;
        Ok(Arc::new(Mutex::new(
            entries
                .iter()
                .map(|entry| entry::account_of_entry(entry, known).key)
                .collect(),
        )))
    }

    /// A container that was moved or renamed changed the names of all that lie in it, which the
    /// server does not tell; one that left what we read took them along.
    async fn with_what_moved(
        &self,
        object: ObjectType,
        news: ChangeEvent,
        places: &Mutex<HashSet<String>>,
        known: &DirectoryCapabilities,
        going_on: bool,
    ) -> Result<ChangeEvent, ConnectError> {
        let is_place = |account: &Observed| {
            let classes = account.attributes.get("objectClass");
            classes.iter().any(|class| {
                CONTAINERS
                    .iter()
                    .any(|known| class.to_string().eq_ignore_ascii_case(known))
            })
        };
        match news {
            ChangeEvent::Gone(keys) => {
                let gone = keys.iter().any(|key| {
                    places
                        .lock()
                        .unwrap_or_else(PoisonError::into_inner)
                        .remove(key)
                });
                Ok(if gone {
                    ChangeEvent::ResyncRequired(
                        "a container was deleted, or moved out of the base DN".to_owned(),
                    )
                } else {
                    ChangeEvent::Gone(keys)
                })
            }
            ChangeEvent::Changed(all) => {
                let (containers, mut accounts): (Vec<Observed>, Vec<Observed>) =
                    all.into_iter().partition(is_place);
                for container in containers {
                    let is_new = places
                        .lock()
                        .unwrap_or_else(PoisonError::into_inner)
                        .insert(container.key);
                    // In the initial content, every entry of the container is sent anyway.
                    if !is_new && going_on {
                        accounts.extend(self.accounts_below(object, &container.name, known).await?);
                    }
                }
                Ok(ChangeEvent::Changed(accounts))
            }
            other => Ok(other),
        }
    }
}

/// The classes of entries in which others lie.
const CONTAINERS: [&str; 4] = [
    "organizationalUnit",
    "container",
    "organization",
    "locality",
];

fn container_filter() -> LdapFilter {
    LdapFilter::Any(
        CONTAINERS
            .iter()
            .map(|class| LdapFilter::equal("objectClass", class))
            .collect(),
    )
}

/// How far before the last change each poll begins: entries that were written earlier on another
/// server may arrive later.
const LOOK_BACK: i64 = 300;

/// Shifts a time in directory syntax by seconds; other text stays as it is.
fn shift_time(from: &str, seconds: i64) -> String {
    let at = tide_ldap::syntax::generalized_time(from)
        .map(|at| at.saturating_add(jiff::SignedDuration::from_secs(seconds)));
    at.and_then(Result::ok)
        .map_or_else(|| from.to_owned(), tide_ldap::syntax::to_generalized_time)
}

/// Number of time-outs for which a server may be silent before it has sent its position.
const SILENCE: u32 = 4;

fn silence_error(url: &str, limit: Duration) -> ConnectError {
    let text = format!(
        "{url} accepted content synchronization and sent nothing for {} s",
        limit.as_secs()
    );
    ConnectError::transient(
        "sync_silent",
        text,
        "remove the size limit of the service account, or choose another watch mode: --mode modified",
    )
}

/// The result exceeds a limit of the server: everything is read, in pages.
pub(super) async fn lost_by_limit(
    told: Result<(), ConnectError>,
    out: &Out,
) -> Result<(), ConnectError> {
    match told {
        Err(error) if ["size_limit", "time_limit"].contains(&error.code) => out
            .send(Ok(ChangeEvent::ResyncRequired(format!(
                "{error}: a full read follows"
            ))))
            .await
            .map_err(stopped),
        other => other,
    }
}

async fn send_events(
    out: &Out,
    changed: Vec<Observed>,
    gone: Vec<String>,
) -> Result<(), ConnectError> {
    if !changed.is_empty() {
        out.send(Ok(ChangeEvent::Changed(changed)))
            .await
            .map_err(stopped)?;
    }
    if !gone.is_empty() {
        out.send(Ok(ChangeEvent::Gone(gone)))
            .await
            .map_err(stopped)?;
    }
    Ok(())
}

/// The events of one message of content synchronization. `going_on`: it continues from a cursor,
/// so that a lost history leads to a full read.
fn sync_events(
    entry: ResultEntry,
    known: &DirectoryCapabilities,
    going_on: bool,
) -> Result<Vec<ChangeEvent>, ConnectError> {
    let mark = |cookie: Option<Vec<u8>>| {
        // An empty one would begin from nothing.
        cookie
            .and_then(|c| String::from_utf8(c).ok())
            .filter(|text| !text.is_empty())
            .map(ChangeEvent::Checkpoint)
    };
    let lost = || {
        ChangeEvent::ResyncRequired("the server no longer has the deletions since then".to_owned())
    };
    if entry.is_ref() {
        return Ok(Vec::new());
    }
    if entry.is_intermediate() {
        return Ok(match catch_panic(|| parse_syncinfo(entry))? {
            SyncInfo::NewCookie(cookie) => mark(Some(cookie)).into_iter().collect(),
            SyncInfo::RefreshDelete { cookie, .. } => mark(cookie).into_iter().collect(),
            SyncInfo::RefreshPresent { .. } if going_on => vec![lost()],
            SyncInfo::RefreshPresent { cookie, .. } => mark(cookie).into_iter().collect(),
            SyncInfo::SyncIdSet {
                refresh_deletes: false,
                ..
            } if going_on => vec![lost()],
            SyncInfo::SyncIdSet {
                refresh_deletes: false,
                cookie,
                ..
            } => mark(cookie).into_iter().collect(),
            SyncInfo::SyncIdSet {
                cookie, sync_uuids, ..
            } => {
                let gone: Vec<String> = sync_uuids
                    .iter()
                    .filter_map(|octets| uuid_text(octets))
                    .collect();
                let gone = (!gone.is_empty()).then_some(ChangeEvent::Gone(gone));
                gone.into_iter().chain(mark(cookie)).collect()
            }
        });
    }
    let Some(SyncState {
        state,
        entry_uuid,
        cookie,
    }) = sync_state(&entry)?
    else {
        return Err(ConnectError::transient(
            "sync_broken",
            "the server sent an entry without its state",
            "a full read follows",
        ));
    };
    let news = match state {
        EntryState::Present if going_on => return Ok(vec![lost()]),
        EntryState::Present => None,
        EntryState::Delete => uuid_text(&entry_uuid).map(|key| ChangeEvent::Gone(vec![key])),
        EntryState::Add | EntryState::Modify => changed_account(entry, known, entry_uuid)?,
    };
    Ok(news.into_iter().chain(mark(cookie)).collect())
}

/// The account of an entry that was added or modified.
fn changed_account(
    entry: ResultEntry,
    known: &DirectoryCapabilities,
    entry_uuid: Vec<u8>,
) -> Result<Option<ChangeEvent>, ConnectError> {
    let entry = entry::open(entry)?;
    let mut account = entry::account_of_entry(&entry, known);
    let shows_key = entry
        .attrs
        .keys()
        .any(|name| name.eq_ignore_ascii_case(known.key));
    match uuid_text(&entry_uuid) {
        // A refresh may leave operational attributes out.
        Some(key) if !shows_key => (account.key, account.fault) = (key, None),
        Some(key) if !key.eq_ignore_ascii_case(&account.key) => {
            return Err(ConnectError::permanent(
                "sync_key",
                format!(
                    "content synchronization names {} by {key}, and its {} is {}",
                    account.name, known.key, account.key
                ),
                "choose another watch mode: --mode modified",
            ));
        }
        _ => {}
    }
    Ok(Some(ChangeEvent::Changed(vec![account])))
}

/// The state of an entry in content synchronization (RFC 4533 §2.2).
fn sync_state(entry: &ResultEntry) -> Result<Option<SyncState>, ConnectError> {
    let raw = entry
        .1
        .iter()
        .find_map(|Control(kind, raw)| matches!(kind, Some(ControlType::SyncState)).then_some(raw))
        .cloned();
    raw.map(|raw| catch_panic(|| raw.parse::<SyncState>()))
        .transpose()
}
