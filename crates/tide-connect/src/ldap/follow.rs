//! Following a directory: content synchronization (RFC 4533) where it is offered, the change numbers of a domain
//! controller, and else what was modified since.

use super::schema::{self, Known};
use super::{LdapConnector, Search, accept, class_filter, dial, entry};
use crate::ConnectError;
use crate::follow::{News, Way, stopped};
use ldap3::controls::{Control, ControlType, MakeCritical, RawControl, SyncRequest, SyncState, parse_syncinfo};
use ldap3::controls::{EntryState, RefreshMode, SyncInfo};
use ldap3::{Ldap, ResultEntry, Scope, SearchEntry};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::time::Duration;
use tide_core::ObjectType;
use tide_ldap::{Dn, Filter};
use tokio::sync::mpsc;

/// The controls by which a way is known.
const CONTENT_SYNC: &str = "1.3.6.1.4.1.4203.1.9.1.1";
const SHOW_DELETED: &str = "1.2.840.113556.1.4.417";
/// How often it is asked whether the connection still lives.
const PULSE: Duration = Duration::from_secs(30);
/// How far back the first look goes where the server's own clock is not known.
const FIRST_LOOK: i64 = 24 * 3600;

type Out = mpsc::Sender<Result<News, ConnectError>>;

/// The library's parsers panic on what they cannot read; for us it is a broken server.
fn careful<T>(parse: impl FnOnce() -> T) -> Result<T, ConnectError> {
    catch_unwind(AssertUnwindSafe(parse)).map_err(|_| {
        ConnectError::passing(
            "sync_broken",
            "the server's news cannot be read",
            "everything is read instead; report it to the server's keeper",
        )
    })
}

/// A UUID's octets as the text that keys are.
fn uuid_text(octets: &[u8]) -> Option<String> {
    let hex: String = octets.iter().map(|octet| format!("{octet:02x}")).collect();
    (hex.len() == 32).then(|| format!("{}-{}-{}-{}-{}", &hex[..8], &hex[8..12], &hex[12..16], &hex[16..20], &hex[20..]))
}

/// A place in a domain controller's history: a number of one database, which has another name after a restore.
fn number_of(mark: &str) -> Option<(u64, &str)> {
    let (number, database) = mark.split_once('@')?;
    Some((number.parse().ok()?, database))
}

impl LdapConnector {
    /// How this server's changes can be known, the best first.
    pub(super) fn ways_of(known: &Known) -> Vec<Way> {
        let mut ways = Vec::new();
        if known.offers(CONTENT_SYNC) && known.key == "entryUUID" {
            ways.push(Way::ContentSync);
        }
        if known.controller && known.offers(SHOW_DELETED) {
            ways.push(Way::ChangeNumber);
        }
        ways.extend([Way::Modified, Way::Full]);
        ways
    }

    /// The naming context that holds the base.
    async fn context(&self, ldap: &mut Ldap) -> Result<String, ConnectError> {
        let base: Option<Dn> = self.settings().base_dn.parse().ok();
        let contexts = schema::naming_contexts(ldap).await;
        let holds =
            |context: &&String| context.parse::<Dn>().ok().zip(base.as_ref()).is_some_and(|(c, base)| *base == c || base.is_under(&c));
        Ok(contexts.iter().filter(holds).max_by_key(|c| c.len()).cloned().unwrap_or_else(|| self.settings().base_dn.clone()))
    }

    /// Values of one entry.
    async fn values(&self, ldap: &mut Ldap, dn: &str, name: &str) -> Result<Vec<String>, ConnectError> {
        let answer = ldap
            .with_timeout(dial::seconds(self.settings()))
            .search(dn, Scope::Base, "(objectClass=*)", vec![name])
            .await
            .map_err(|error| dial::broken(&self.settings().url, &error))?;
        let Some(found) = answer.0.into_iter().find(|e| !e.is_ref()) else { return Ok(Vec::new()) };
        let mut entry = entry::open(found)?;
        if let Some((_, octets)) = entry.bin_attrs.iter().find(|(n, _)| n.eq_ignore_ascii_case(name)) {
            return Ok(octets.iter().map(|o| o.iter().map(|b| format!("{b:02x}")).collect()).collect());
        }
        let found = entry.attrs.keys().find(|n| n.eq_ignore_ascii_case(name)).cloned();
        Ok(found.and_then(|n| entry.attrs.remove(&n)).unwrap_or_default())
    }

    /// The place in the server's history at which it is now.
    pub(super) async fn mark_of(&self, way: Way) -> Result<Option<String>, ConnectError> {
        let mut ldap = self.line().await?;
        match way {
            Way::ContentSync => {
                let context = self.context(&mut ldap).await?;
                let mut numbers = self.values(&mut ldap, &context, "contextCSN").await?;
                numbers.sort();
                // As the server writes its own (its cookie is opaque by the standard; without this one the first
                // following begins with everything).
                Ok((!numbers.is_empty()).then(|| format!("rid=000,csn={}", numbers.join(";"))))
            }
            Way::ChangeNumber => self.highest(&mut ldap).await.map(|(number, database)| Some(format!("{number}@{database}"))),
            _ => {
                let from = jiff::Timestamp::now().saturating_sub(jiff::SignedDuration::from_secs(FIRST_LOOK)).unwrap_or_default();
                Ok(Some(from.strftime("%Y%m%d%H%M%SZ").to_string()))
            }
        }
    }

    /// A domain controller's highest change number, and which database it counts.
    async fn highest(&self, ldap: &mut Ldap) -> Result<(u64, String), ConnectError> {
        let number = self.values(ldap, "", "highestCommittedUSN").await?.first().and_then(|n| n.parse().ok());
        let service = self.values(ldap, "", "dsServiceName").await?.into_iter().next().unwrap_or_default();
        let database = self.values(ldap, &service, "invocationId").await.unwrap_or_default().into_iter().next();
        number.map(|number| (number, database.unwrap_or(service))).ok_or_else(|| {
            ConnectError::lasting(
                "no_change_number",
                "the server does not say its highest change number",
                "choose another way of following it",
            )
        })
    }

    /// Content synchronization, until it breaks or nobody listens.
    pub(super) async fn synchronize(&self, object: ObjectType, from: Option<String>, out: &Out) -> Result<(), ConnectError> {
        let mut ldap: Ldap = self.dialer.bound().await?;
        let known = self.known(&mut ldap).await?.clone();
        let settings = self.settings();
        let request =
            SyncRequest { mode: RefreshMode::RefreshAndPersist, cookie: from.clone().map(String::into_bytes), reload_hint: false };
        let control: RawControl = request.critical().into();
        let filter = class_filter(object, &known).to_string();
        // A server that is gone without a word is noticed too.
        let mut pulse = ldap.clone();
        let wait = dial::seconds(settings);
        let beating = async move {
            loop {
                tokio::time::sleep(PULSE).await;
                if pulse.with_timeout(wait).extended(ldap3::exop::WhoAmI).await.is_err() {
                    return;
                }
            }
        };
        let mut stream = ldap
            .with_controls(vec![control])
            .streaming_search(&settings.base_dn, Scope::Subtree, &filter, known.requested())
            .await
            .map_err(|error| dial::broken(&settings.url, &error))?;
        let telling = async {
            loop {
                let next = stream.next().await.map_err(|error| dial::broken(&settings.url, &error))?;
                let Some(entry) = next else { break };
                for news in told(entry, &known, from.is_some())? {
                    let lost = matches!(news, News::Lost(_));
                    out.send(Ok(news)).await.map_err(stopped)?;
                    if lost {
                        return Ok(());
                    }
                }
            }
            let ended = stream.finish().await;
            match ended.rc {
                // What we know is older or newer than what it can tell from (RFC 4533 §3.6, and a server restored from a backup).
                4096 | 53 => {
                    let why = format!("the server cannot go on from where we were (code {}): {}", ended.rc, ended.text.trim());
                    out.send(Ok(News::Lost(why))).await.map_err(stopped)
                }
                _ => {
                    accept(&ended, "following the directory")?;
                    Err(ConnectError::passing("cut", "the server ended the following", "it is begun again by itself"))
                }
            }
        };
        tokio::select! {
            ended = telling => ended,
            () = beating => Err(ConnectError::passing("cut", format!("{} does not answer any more", settings.url), "it is tried again by itself")),
        }
    }

    /// What a domain controller's change number grew past.
    pub(super) async fn numbered(&self, object: ObjectType, from: &str, out: &Out) -> Result<(), ConnectError> {
        let mut ldap: Ldap = self.dialer.bound().await?;
        let known = self.known(&mut ldap).await?.clone();
        let (now, database) = self.highest(&mut ldap).await?;
        let before = number_of(from);
        let Some((since, _)) = before.filter(|(since, same)| *same == database && *since <= now) else {
            let why = "the domain controller is another one, or was restored from a backup".to_owned();
            return out.send(Ok(News::Lost(why))).await.map_err(stopped);
        };
        let grown = |more: Filter| Filter::All(vec![Filter::AtLeast("uSNChanged".into(), (since + 1).to_string().into_bytes()), more]);
        let context = self.context(&mut ldap).await?;
        let base: Option<Dn> = self.settings().base_dn.parse().ok();
        let filter = grown(class_filter(object, &known)).to_string();
        // The whole context: who moved out of what we read is gone for us.
        let search = Search { base: &context, scope: Scope::Subtree, filter: &filter, attributes: known.requested() };
        let mut cookie = Vec::new();
        loop {
            let page = self.page(&mut ldap, &search, cookie).await?;
            let inside =
                |entry: &&SearchEntry| entry.dn.parse::<Dn>().ok().zip(base.as_ref()).is_some_and(|(dn, b)| dn == *b || dn.is_under(b));
            let (here, elsewhere): (Vec<&SearchEntry>, Vec<&SearchEntry>) = page.entries.iter().partition(inside);
            let changed: Vec<_> = here.into_iter().map(|entry| entry::observed(entry, &known)).collect();
            let gone: Vec<String> = elsewhere.into_iter().map(|entry| entry::observed(entry, &known).key).collect();
            tell(out, changed, gone).await?;
            if page.next.is_empty() {
                break;
            }
            cookie = page.next;
        }
        let deleted = grown(Filter::equal("isDeleted", "TRUE")).to_string();
        let show = RawControl { ctype: SHOW_DELETED.to_owned(), crit: true, val: None };
        let (entries, result) = ldap
            .with_controls(vec![show])
            .with_timeout(dial::seconds(self.settings()))
            .search(&context, Scope::Subtree, &deleted, vec!["objectGUID", "isDeleted"])
            .await
            .map(|answer| (answer.0, answer.1))
            .map_err(|error| dial::broken(&self.settings().url, &error))?;
        accept(&result, "asking for deleted objects")?;
        let mut gone = Vec::new();
        for found in entries.into_iter().filter(|e| !e.is_ref() && !e.is_intermediate()) {
            gone.push(entry::observed(&entry::open(found)?, &known).key);
        }
        tell(out, Vec::new(), gone).await?;
        out.send(Ok(News::Mark(format!("{now}@{database}")))).await.map_err(stopped)
    }

    /// What was modified since an instant, which is the server's own.
    pub(super) async fn modified(&self, object: ObjectType, from: &str, out: &Out) -> Result<(), ConnectError> {
        let mut ldap = self.line().await?;
        let known = self.known(&mut ldap).await?.clone();
        let at_least = Filter::AtLeast("modifyTimestamp".into(), from.as_bytes().to_vec());
        let filter = Filter::All(vec![at_least, class_filter(object, &known)]).to_string();
        let mut attributes = known.requested();
        attributes.push("modifyTimestamp".to_owned());
        let search = Search { base: &self.settings().base_dn, scope: Scope::Subtree, filter: &filter, attributes };
        let (mut last, mut cookie) = (from.to_owned(), Vec::new());
        loop {
            let mut page = self.page(&mut ldap, &search, cookie).await?;
            let mut changed = Vec::with_capacity(page.entries.len());
            for entry in &mut page.entries {
                // Only asked for to see how far we are: kept, it would make each record differ each time.
                let name = entry.attrs.keys().find(|name| name.eq_ignore_ascii_case("modifyTimestamp")).cloned();
                if let Some(at) = name.and_then(|name| entry.attrs.remove(&name)).and_then(|values| values.into_iter().next()) {
                    last = last.max(at);
                }
                changed.push(entry::observed(entry, &known));
            }
            tell(out, changed, Vec::new()).await?;
            if page.next.is_empty() {
                return out.send(Ok(News::Mark(last))).await.map_err(stopped);
            }
            cookie = page.next;
        }
    }
}

async fn tell(out: &Out, changed: Vec<tide_core::model::Observed>, gone: Vec<String>) -> Result<(), ConnectError> {
    if !changed.is_empty() {
        out.send(Ok(News::Changed(changed))).await.map_err(stopped)?;
    }
    if !gone.is_empty() {
        out.send(Ok(News::Gone(gone))).await.map_err(stopped)?;
    }
    Ok(())
}

/// What one message of a synchronization tells. `going_on`: it was begun from a place in the history, so that a list of
/// those who are still there means that the server forgot who is not.
fn told(entry: ResultEntry, known: &Known, going_on: bool) -> Result<Vec<News>, ConnectError> {
    let mark = |cookie: Option<Vec<u8>>| {
        // An empty one would begin from nothing.
        cookie.and_then(|c| String::from_utf8(c).ok()).filter(|text| !text.is_empty()).map(News::Mark)
    };
    let lost = || News::Lost("the server no longer knows what was deleted since".to_owned());
    if entry.is_ref() {
        return Ok(Vec::new());
    }
    if entry.is_intermediate() {
        return Ok(match careful(|| parse_syncinfo(entry))? {
            SyncInfo::NewCookie(cookie) => mark(Some(cookie)).into_iter().collect(),
            SyncInfo::RefreshDelete { cookie, .. } => mark(cookie).into_iter().collect(),
            SyncInfo::RefreshPresent { .. } if going_on => vec![lost()],
            SyncInfo::RefreshPresent { cookie, .. } => mark(cookie).into_iter().collect(),
            SyncInfo::SyncIdSet { refresh_deletes: false, .. } if going_on => vec![lost()],
            SyncInfo::SyncIdSet { refresh_deletes: false, cookie, .. } => mark(cookie).into_iter().collect(),
            SyncInfo::SyncIdSet { cookie, sync_uuids, .. } => {
                let gone: Vec<String> = sync_uuids.iter().filter_map(|octets| uuid_text(octets)).collect();
                let gone = (!gone.is_empty()).then_some(News::Gone(gone));
                gone.into_iter().chain(mark(cookie)).collect()
            }
        });
    }
    let state = entry.1.iter().find_map(|Control(kind, raw)| matches!(kind, Some(ControlType::SyncState)).then_some(raw)).cloned();
    let state = state.map(|raw| careful(|| raw.parse::<SyncState>())).transpose()?;
    let Some(SyncState { state, entry_uuid, cookie }) = state else {
        return Err(ConnectError::passing("sync_broken", "the server tells of an entry without its state", "everything is read instead"));
    };
    let news = match state {
        EntryState::Present if going_on => return Ok(vec![lost()]),
        EntryState::Present => None,
        EntryState::Delete => uuid_text(&entry_uuid).map(|key| News::Gone(vec![key])),
        EntryState::Add | EntryState::Modify => Some(News::Changed(vec![entry::observed(&entry::open(entry)?, known)])),
    };
    Ok(news.into_iter().chain(mark(cookie)).collect())
}
