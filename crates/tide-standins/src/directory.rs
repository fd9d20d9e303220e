//! A small real LDAP server of our own: bind, search with paging, add, modify, rename, delete. It
//! stands in where slapd is not installed, and misbehaves on command in tests.

use crate::world::BASE;
use futures::{SinkExt, StreamExt};
use ldap3_proto::LdapCodec;
use ldap3_proto::control::LdapControl;
use ldap3_proto::proto::{
    LdapBindCred, LdapBindResponse, LdapFilter, LdapIntermediateResponse, LdapModifyType, LdapMsg,
    LdapOp, LdapPartialAttribute, LdapResult, LdapResultCode, LdapSearchRequest,
    LdapSearchResultEntry, LdapSearchResultReference, LdapSearchScope, SyncRequestMode,
    SyncStateValue,
};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tide_ldap::Dn;
use tide_ldap::ldif::LdifEntry;
use tokio::net::{TcpListener, TcpStream};
use tokio_util::codec::Framed;

/// The faults that the server plays, on command.
#[derive(Debug, Clone, Default)]
pub struct Temper {
    /// Cut the connection after this many entries of one connection's searches.
    pub cut_after: Option<usize>,
    /// Wait this long before each answer to a search.
    pub stall: Option<Duration>,
    /// Answer this many searches with "busy".
    pub busy: usize,
    /// Return at most this number of values of an attribute at a time, as a strict domain
    /// controller does.
    pub range: Option<usize>,
    /// End every search with a reference to this URL.
    pub referral: Option<String>,
    /// How it synchronizes content (RFC 4533), if it does.
    pub synchronizes: Option<Synchronizes>,
    /// Return only entries whose name contains this, as after a change of the service account's
    /// read permissions.
    pub shows_only: Option<String>,
}

/// How a server synchronizes content that does not do it as one would wish.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Synchronizes {
    /// It names entries by UUIDs that are not their entryUUID.
    ByOtherUuids,
    /// It accepts a request for change notifications and sends nothing, as a server whose limit
    /// was exceeded.
    Silent,
    /// Going on from a cookie it shows changed entries without operational attributes.
    WithoutOperational,
}

struct DirectoryState {
    entries: Mutex<Vec<Stored>>,
    temper: Mutex<Temper>,
    password: String,
}

#[derive(Clone)]
struct Stored {
    dn: Dn,
    attributes: Vec<(String, Vec<Vec<u8>>)>,
}

/// A running stand-in.
pub struct Directory {
    /// Its address.
    pub url: String,
    /// The name that may bind.
    pub admin_dn: String,
    /// Its password, and that of the service account.
    pub password: String,
    shared: Arc<DirectoryState>,
    task: tokio::task::JoinHandle<()>,
}

fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Directory {
    /// Starts a stand-in that holds these entries.
    pub async fn start(entries: &[LdifEntry], password: &str) -> anyhow::Result<Directory> {
        let listener = TcpListener::bind("127.0.0.1:0").await?;
        let url = format!("ldap://{}", listener.local_addr()?);
        let mut stored = Vec::with_capacity(entries.len());
        for entry in entries {
            stored.push(Stored::new(entry.dn.parse()?, entry.attributes.clone()));
        }
        let shared = Arc::new(DirectoryState {
            entries: Mutex::new(stored),
            temper: Mutex::default(),
            password: password.to_owned(),
        });
        let serving = shared.clone();
        let task = tokio::spawn(async move {
            while let Ok((stream, _)) = listener.accept().await {
                tokio::spawn(serve(stream, serving.clone()));
            }
        });
        Ok(Directory {
            url,
            admin_dn: format!("cn=admin,{BASE}"),
            password: password.to_owned(),
            shared,
            task,
        })
    }

    /// Sets what it does wrong from now on.
    pub fn temper(&self, temper: Temper) {
        *lock(&self.shared.temper) = temper;
    }

    /// Puts raw octets into an entry, past every check: a broken entry.
    pub fn corrupt(&self, uid: &str, attribute: &str, octets: &[u8]) {
        for entry in lock(&self.shared.entries).iter_mut() {
            if entry
                .get("uid")
                .first()
                .is_some_and(|v| v == uid.as_bytes())
            {
                entry.set(attribute, vec![octets.to_vec()]);
            }
        }
    }
}

impl Drop for Directory {
    fn drop(&mut self) {
        self.task.abort();
    }
}

impl Stored {
    fn new(dn: Dn, mut attributes: Vec<(String, Vec<Vec<u8>>)>) -> Self {
        if !attributes
            .iter()
            .any(|(name, _)| name.eq_ignore_ascii_case("entryUUID"))
        {
            attributes.push((
                "entryUUID".into(),
                vec![uuid::Uuid::new_v4().to_string().into_bytes()],
            ));
        }
        Stored { dn, attributes }
    }

    fn get(&self, name: &str) -> &[Vec<u8>] {
        self.attributes
            .iter()
            .find(|(n, _)| n.eq_ignore_ascii_case(name))
            .map_or(&[], |(_, v)| v)
    }

    fn set(&mut self, name: &str, values: Vec<Vec<u8>>) {
        self.attributes
            .retain(|(n, _)| !n.eq_ignore_ascii_case(name));
        if !values.is_empty() {
            self.attributes.push((name.to_owned(), values));
        }
    }

    fn fits(&self, filter: &LdapFilter) -> bool {
        let folded = |value: &[u8]| String::from_utf8_lossy(value).to_lowercase();
        let any = |name: &str, test: &dyn Fn(&str) -> bool| {
            self.get(name).iter().any(|v| test(&folded(v)))
        };
        match filter {
            LdapFilter::And(parts) => parts.iter().all(|p| self.fits(p)),
            LdapFilter::Or(parts) => parts.iter().any(|p| self.fits(p)),
            LdapFilter::Not(part) => !self.fits(part),
            LdapFilter::Present(name) => {
                name.eq_ignore_ascii_case("objectClass") || !self.get(name).is_empty()
            }
            LdapFilter::Equality(name, value) | LdapFilter::Approx(name, value) => {
                any(name, &|v| v == value.to_lowercase())
            }
            LdapFilter::Substring(name, part) => any(name, &|v| {
                part.initial
                    .as_ref()
                    .is_none_or(|i| v.starts_with(&i.to_lowercase()))
                    && part
                        .final_
                        .as_ref()
                        .is_none_or(|f| v.ends_with(&f.to_lowercase()))
                    && part.any.iter().all(|a| v.contains(&a.to_lowercase()))
            }),
            LdapFilter::GreaterOrEqual(name, value) => {
                any(name, &|v| v >= value.to_lowercase().as_str())
            }
            LdapFilter::LessOrEqual(name, value) => {
                any(name, &|v| v <= value.to_lowercase().as_str())
            }
            LdapFilter::Extensible(_) => false,
        }
    }
}

fn result(code: LdapResultCode, message: &str) -> LdapResult {
    LdapResult {
        code,
        matcheddn: String::new(),
        message: message.to_owned(),
        referral: Vec::new(),
    }
}

fn ok() -> LdapResult {
    result(LdapResultCode::Success, "")
}

async fn serve(stream: TcpStream, shared: Arc<DirectoryState>) {
    // A failure costs a few milliseconds and nothing else.
    let _ = stream.set_nodelay(true);
    let mut framed = Framed::new(stream, LdapCodec::new(Some(16 << 20), None));
    let mut shown = 0usize;
    let mut bound = false;
    while let Some(Ok(message)) = framed.next().await {
        let id = message.msgid;
        let answer = match message.op {
            LdapOp::UnbindRequest => return,
            LdapOp::BindRequest(request) => bind(&shared, &mut bound, request),
            LdapOp::SearchRequest(request) => {
                let temper = lock(&shared.temper).clone();
                if let Some(stall) = temper.stall {
                    tide_clock::sleep(stall).await;
                }
                let ordinary =
                    !request.base.is_empty() && !request.base.eq_ignore_ascii_case("cn=subschema");
                if temper.busy > 0 && ordinary {
                    lock(&shared.temper).busy -= 1;
                    LdapOp::SearchResultDone(result(
                        LdapResultCode::Busy,
                        "stand-in is busy, as it was told",
                    ))
                } else if ordinary && !bound {
                    LdapOp::SearchResultDone(result(
                        LdapResultCode::InsufficentAccessRights,
                        "bind first",
                    ))
                } else {
                    let (entries, done, control) = search(&shared, &request, &message.ctrl);
                    let hidden = |dn: &str| {
                        temper
                            .shows_only
                            .as_ref()
                            .is_some_and(|part| !dn.contains(part.as_str()))
                    };
                    let subtree = request.scope == LdapSearchScope::Subtree;
                    let sync = temper.synchronizes.zip(sync_request(&message.ctrl));
                    if sync.is_some_and(|(manner, request)| {
                        manner == Synchronizes::Silent && request.persists
                    }) {
                        continue;
                    }
                    for mut entry in entries
                        .into_iter()
                        .filter(|entry| !(ordinary && subtree && hidden(&entry.dn)))
                    {
                        if ordinary && temper.cut_after.is_some_and(|limit| shown >= limit) {
                            return;
                        }
                        shown += usize::from(ordinary);
                        let state = sync.and_then(|(manner, request)| {
                            synchronized(&mut entry, manner, request.going_on)
                        });
                        let message = LdapMsg::new_with_ctrls(
                            id,
                            LdapOp::SearchResultEntry(entry),
                            state.into_iter().collect(),
                        );
                        if framed.send(message).await.is_err() {
                            return;
                        }
                    }
                    if sync.is_some_and(|(_, request)| request.persists) {
                        // It would tell of changes from now on, and there are none.
                        let cookie = Some(b"2".to_vec());
                        let refreshed = LdapOp::IntermediateResponse(
                            LdapIntermediateResponse::SyncInfoRefreshDelete { cookie, done: true },
                        );
                        if framed.send(LdapMsg::new(id, refreshed)).await.is_err() {
                            return;
                        }
                        continue;
                    }
                    if let Some(url) = temper
                        .referral
                        .filter(|_| ordinary && request.scope != LdapSearchScope::Base)
                    {
                        let reference = LdapOp::SearchResultReference(LdapSearchResultReference {
                            uris: vec![url],
                        });
                        if framed.send(LdapMsg::new(id, reference)).await.is_err() {
                            return;
                        }
                    }
                    let message = LdapMsg::new_with_ctrls(
                        id,
                        LdapOp::SearchResultDone(done),
                        control.into_iter().collect(),
                    );
                    if framed.send(message).await.is_err() {
                        return;
                    }
                    continue;
                }
            }
            _ if !bound => LdapOp::ModifyResponse(result(
                LdapResultCode::InsufficentAccessRights,
                "bind first",
            )),
            op => write(&shared, op),
        };
        if framed.send(LdapMsg::new(id, answer)).await.is_err() {
            return;
        }
    }
}

/// Answers a bind.
fn bind(
    shared: &Arc<DirectoryState>,
    bound: &mut bool,
    request: ldap3_proto::proto::LdapBindRequest,
) -> LdapOp {
    let good = match &request.cred {
        LdapBindCred::Simple(password) => request.dn.is_empty() || *password == shared.password,
        _ => false,
    };
    *bound = good && !request.dn.is_empty();
    let res = if good {
        ok()
    } else {
        result(LdapResultCode::InvalidCredentials, "")
    };
    LdapOp::BindResponse(LdapBindResponse {
        res,
        saslcreds: None,
    })
}

/// A request for content synchronization.
#[derive(Clone, Copy)]
struct SyncAsked {
    going_on: bool,
    persists: bool,
}

fn sync_request(controls: &[LdapControl]) -> Option<SyncAsked> {
    controls.iter().find_map(|control| match control {
        LdapControl::SyncRequest { mode, cookie, .. } => Some(SyncAsked {
            going_on: cookie.is_some(),
            persists: *mode == SyncRequestMode::RefreshAndPersist,
        }),
        _ => None,
    })
}

/// The control with an entry's id in the synchronization.
fn synchronized(
    entry: &mut LdapSearchResultEntry,
    manner: Synchronizes,
    going_on: bool,
) -> Option<LdapControl> {
    let at = entry
        .attributes
        .iter()
        .position(|attribute| attribute.atype.eq_ignore_ascii_case("entryUUID"))?;
    let own: uuid::Uuid = String::from_utf8_lossy(entry.attributes[at].vals.first()?)
        .parse()
        .ok()?;
    if manner == Synchronizes::WithoutOperational && going_on {
        entry.attributes.remove(at);
    }
    let entry_uuid = if manner == Synchronizes::ByOtherUuids {
        uuid::Uuid::from_u128(!own.as_u128())
    } else {
        own
    };
    Some(LdapControl::SyncState {
        state: SyncStateValue::Add,
        entry_uuid,
        cookie: None,
    })
}

fn special(dn: &str, attributes: &[(&str, &[&str])]) -> LdapSearchResultEntry {
    LdapSearchResultEntry {
        dn: dn.to_owned(),
        attributes: attributes
            .iter()
            .map(|(name, values)| LdapPartialAttribute {
                atype: (*name).to_owned(),
                vals: values.iter().map(|v| v.as_bytes().to_vec()).collect(),
            })
            .collect(),
    }
}

const TEXT: &str = "EQUALITY caseIgnoreMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.15";

fn subschema() -> LdapSearchResultEntry {
    let mut types: Vec<String> = [
        "cn",
        "sn",
        "givenName",
        "displayName",
        "uid",
        "mail",
        "employeeNumber",
        "departmentNumber",
        "l",
        "title",
        "telephoneNumber",
        "employeeType",
        "ou",
        "dc",
        "o",
        "description",
        "street",
        "postalCode",
        "mobile",
    ]
    .iter()
    .enumerate()
    .map(|(n, name)| format!("( 1.3.6.1.4.1.99999.1.{n} NAME '{name}' {TEXT} )"))
    .collect();
    types.extend([
        "( 2.5.4.0 NAME 'objectClass' EQUALITY objectIdentifierMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.38 )".to_owned(),
        "( 2.5.4.31 NAME 'member' EQUALITY distinguishedNameMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.12 )".to_owned(),
        "( 2.5.4.49 NAME 'manager' EQUALITY distinguishedNameMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.12 )".to_owned(),
        "( 0.9.2342.19200300.100.1.60 NAME 'jpegPhoto' SYNTAX 1.3.6.1.4.1.1466.115.121.1.28 )".to_owned(),
        "( 1.3.6.1.1.16.4 NAME 'entryUUID' SYNTAX 1.3.6.1.1.16.1 SINGLE-VALUE NO-USER-MODIFICATION )".to_owned(),
        "( 1.3.6.1.4.1.42.2.27.8.1.17 NAME 'pwdAccountLockedTime' SYNTAX 1.3.6.1.4.1.1466.115.121.1.24 SINGLE-VALUE )".to_owned(),
    ]);
    let types: Vec<&str> = types.iter().map(String::as_str).collect();
    special(
        "cn=Subschema",
        &[
            ("attributeTypes", &types),
            (
                "objectClasses",
                &["( 2.5.6.6 NAME 'person' MUST ( sn $ cn ) )"],
            ),
        ],
    )
}

fn search(
    shared: &DirectoryState,
    request: &LdapSearchRequest,
    controls: &[LdapControl],
) -> (Vec<LdapSearchResultEntry>, LdapResult, Option<LdapControl>) {
    if request.base.is_empty() && request.scope == LdapSearchScope::Base {
        let root = root_entry(shared);
        return (vec![root], ok(), None);
    }
    if request.base.eq_ignore_ascii_case("cn=subschema") {
        return (vec![subschema()], ok(), None);
    }
    let Ok(base) = request.base.parse::<Dn>() else {
        return (
            Vec::new(),
            result(LdapResultCode::InvalidDNSyntax, "not a DN"),
            None,
        );
    };
    let entries = lock(&shared.entries);
    if !entries.iter().any(|e| e.dn == base) {
        let missing = missing_base(&base, &entries);
        return (Vec::new(), missing, None);
    }
    let found: Vec<&Stored> = entries
        .iter()
        .filter(
            |entry| match (&request.scope, entry.dn.depth_below(&base)) {
                (LdapSearchScope::Base, depth) => depth == Some(0),
                (LdapSearchScope::OneLevel, depth) => depth == Some(1),
                (_, depth) => depth.is_some(),
            },
        )
        .filter(|entry| entry.fits(&request.filter))
        .collect();
    let paging = controls.iter().find_map(|control| match control {
        LdapControl::SimplePagedResults { size, cookie } => Some((*size as usize, cookie.clone())),
        _ => None,
    });
    let (from, to) = match &paging {
        Some((size, cookie)) => {
            let from = String::from_utf8_lossy(cookie)
                .parse()
                .unwrap_or(0usize)
                .min(found.len());
            (from, (from + size.max(&1)).min(found.len()))
        }
        None => (0, found.len()),
    };
    let control = paging.map(|_| LdapControl::SimplePagedResults {
        size: 0,
        cookie: if to < found.len() {
            to.to_string().into_bytes()
        } else {
            Vec::new()
        },
    });
    let limit = lock(&shared.temper).range;
    let page = found[from..to]
        .iter()
        .map(|entry| LdapSearchResultEntry {
            dn: entry.dn.to_string(),
            attributes: entry
                .attributes
                .iter()
                .filter(|(name, _)| !name.eq_ignore_ascii_case("userPassword"))
                .map(|(name, vals)| part(name, vals, &request.attrs, limit))
                .collect(),
        })
        .collect();
    (page, ok(), control)
}

/// The root entry (RFC 4512 §5.1).
fn root_entry(shared: &DirectoryState) -> LdapSearchResultEntry {
    let synchronizes = lock(&shared.temper).synchronizes.is_some();
    let offered: &[&str] =
        &["1.2.840.113556.1.4.319", "1.3.6.1.4.1.4203.1.9.1.1"][..1 + usize::from(synchronizes)];
    special(
        "",
        &[
            ("objectClass", &["top"]),
            ("vendorName", &["Eager Tide directory stand-in"]),
            ("namingContexts", &[BASE]),
            ("subschemaSubentry", &["cn=Subschema"]),
            ("supportedControl", offered),
        ],
    )
}

/// The answer to a search below an entry that does not exist (RFC 4511 §4.1.9).
fn missing_base(base: &Dn, entries: &[Stored]) -> LdapResult {
    let mut missing = result(LdapResultCode::NoSuchObject, "");
    let mut above = base.parent();
    while let Some(dn) = above {
        if entries.iter().any(|e| e.dn == dn) {
            missing.matcheddn = dn.to_string();
            break;
        }
        above = dn.parent();
    }
    missing
}

/// An attribute, or the part of it that a strict server shows at a time: `member;range=0-99`.
fn part(
    name: &str,
    values: &[Vec<u8>],
    asked: &[String],
    limit: Option<usize>,
) -> LdapPartialAttribute {
    let whole = || LdapPartialAttribute {
        atype: name.to_owned(),
        vals: values.to_vec(),
    };
    let Some(limit) = limit else { return whole() };
    let from = asked.iter().find_map(|a| {
        let (plain, range) = a.split_once(";range=")?;
        plain
            .eq_ignore_ascii_case(name)
            .then(|| {
                range
                    .split('-')
                    .next()
                    .and_then(|n| n.parse::<usize>().ok())
            })
            .flatten()
    });
    if from.is_none() && values.len() <= limit {
        return whole();
    }
    let from = from.unwrap_or(0).min(values.len());
    let to = (from + limit).min(values.len());
    let end = if to == values.len() {
        "*".to_owned()
    } else {
        (to - 1).to_string()
    };
    LdapPartialAttribute {
        atype: format!("{name};range={from}-{end}"),
        vals: values[from..to].to_vec(),
    }
}

fn write(shared: &DirectoryState, op: LdapOp) -> LdapOp {
    let mut entries = lock(&shared.entries);
    let place = |entries: &[Stored], dn: &str| -> Result<usize, LdapResult> {
        let dn: Dn = dn
            .parse()
            .map_err(|_| result(LdapResultCode::InvalidDNSyntax, "not a DN"))?;
        entries
            .iter()
            .position(|e| e.dn == dn)
            .ok_or_else(|| result(LdapResultCode::NoSuchObject, ""))
    };
    match op {
        LdapOp::AddRequest(request) => LdapOp::AddResponse(match request.dn.parse::<Dn>() {
            Err(_) => result(LdapResultCode::InvalidDNSyntax, "not a DN"),
            Ok(dn) if entries.iter().any(|e| e.dn == dn) => {
                result(LdapResultCode::EntryAlreadyExists, "")
            }
            Ok(dn) => {
                entries.push(Stored::new(
                    dn,
                    request
                        .attributes
                        .into_iter()
                        .map(|a| (a.atype, a.vals))
                        .collect(),
                ));
                ok()
            }
        }),
        LdapOp::ModifyRequest(request) => {
            LdapOp::ModifyResponse(match place(&entries, &request.dn) {
                Err(error) => error,
                Ok(at) => {
                    if let Some(value) = modify(&mut entries, request, at) {
                        return value;
                    }
                    ok()
                }
            })
        }
        LdapOp::ModifyDNRequest(request) => {
            LdapOp::ModifyDNResponse(match place(&entries, &request.dn) {
                Err(error) => error,
                Ok(at) => rename(&mut entries, request, at),
            })
        }
        LdapOp::DelRequest(dn) => LdapOp::DelResponse(match place(&entries, &dn) {
            Err(error) => error,
            Ok(at) => {
                entries.remove(at);
                ok()
            }
        }),
        LdapOp::ExtendedRequest(_) => {
            LdapOp::ExtendedResponse(ldap3_proto::proto::LdapExtendedResponse {
                res: result(
                    LdapResultCode::ProtocolError,
                    "the stand-in knows no extended operations",
                ),
                name: None,
                value: None,
            })
        }
        _ => LdapOp::SearchResultDone(result(LdapResultCode::ProtocolError, "not understood")),
    }
}

/// Applies the changes of a request to an entry.
fn modify(
    entries: &mut [Stored],
    request: ldap3_proto::proto::LdapModifyRequest,
    at: usize,
) -> Option<LdapOp> {
    for change in request.changes {
        let name = change.modification.atype;
        let mut values = entries[at].get(&name).to_vec();
        match change.operation {
            LdapModifyType::Add => values.extend(change.modification.vals),
            LdapModifyType::Delete if change.modification.vals.is_empty() => values.clear(),
            LdapModifyType::Delete => values.retain(|v| !change.modification.vals.contains(v)),
            LdapModifyType::Replace => values = change.modification.vals,
            LdapModifyType::Increment => {
                return Some(LdapOp::ModifyResponse(result(
                    LdapResultCode::UnwillingToPerform,
                    "not offered",
                )));
            }
        }
        entries[at].set(&name, values);
    }
    None
}

/// Renames or moves an entry.
fn rename(
    entries: &mut [Stored],
    request: ldap3_proto::proto::LdapModifyDNRequest,
    at: usize,
) -> LdapResult {
    let parent = request
        .new_superior
        .clone()
        .or_else(|| entries[at].dn.parent().map(|p| p.to_string()))
        .unwrap_or_default();
    match format!("{},{parent}", request.newrdn).parse::<Dn>() {
        Err(_) => result(LdapResultCode::InvalidDNSyntax, "not a DN"),
        Ok(dn) => {
            if let Some((kind, value)) = dn.rdns().first().and_then(|rdn| rdn.first()).cloned() {
                entries[at].set(&kind, vec![value.into_bytes()]);
            }
            entries[at].dn = dn;
            ok()
        }
    }
}
