//! The LDAP connector: dialling, testing, reading in pages, writing.

mod dial;
mod entry;
mod schema;
mod write;

use crate::{Access, CheckReport, ConnectError, Connector, Description, LdapSettings, Secret, Showing, Shown, Write};
use async_trait::async_trait;
use ldap3::controls::{Control, ControlType, PagedResults, RawControl};
use ldap3::{Ldap, LdapResult, ResultEntry, Scope};
use schema::Known;
use std::collections::HashSet;
use std::sync::Arc;
use tide_core::model::Observed;
use tide_core::{ObjectType, Value};
use tide_ldap::{Dn, Filter};
use tokio::sync::{Mutex, OnceCell, mpsc};

/// A directory.
pub struct LdapConnector {
    settings: LdapSettings,
    secret: Option<Secret>,
    access: Arc<Access>,
    tls: Arc<rustls::ClientConfig>,
    /// The connection that writes and finds; dialled when first needed, and again when it broke.
    line: Mutex<Option<Ldap>>,
    known: OnceCell<Known>,
}

impl LdapConnector {
    /// A connector that is not connected yet.
    pub fn new(settings: LdapSettings, secret: Option<Secret>, access: Arc<Access>) -> Result<Self, ConnectError> {
        let tls = crate::tls::client(settings.ca_pem.as_deref())?;
        Ok(LdapConnector { settings, secret, access, tls, line: Mutex::new(None), known: OnceCell::new() })
    }

    /// What the server says of itself, asked once.
    async fn known(&self, ldap: &mut Ldap) -> Result<&Known, ConnectError> {
        self.known.get_or_try_init(|| schema::ask(ldap, &self.settings)).await
    }

    /// Runs something on the shared connection, which is thrown away if it broke.
    async fn line(&self) -> Result<Ldap, ConnectError> {
        let mut line = self.line.lock().await;
        if let Some(ldap) = line.as_mut()
            && !ldap.is_closed()
        {
            return Ok(ldap.clone());
        }
        let ldap = dial::bound(&self.settings, self.secret.as_ref(), &self.tls).await?;
        *line = Some(ldap.clone());
        Ok(ldap)
    }

    /// Reads one page; the cookie of the next one is returned, empty at the end.
    async fn page(
        &self,
        ldap: &mut Ldap,
        filter: &str,
        attributes: &[String],
        cookie: Vec<u8>,
    ) -> Result<(Vec<ResultEntry>, Vec<u8>), ConnectError> {
        // Not critical: a server without paging answers in one page, which is complete as well.
        let paged: RawControl = PagedResults { size: i32::from(self.settings.page_size), cookie }.into();
        let answer = ldap
            .with_controls(vec![paged])
            .with_timeout(dial::seconds(&self.settings))
            .search(&self.settings.base_dn, Scope::Subtree, filter, attributes)
            .await
            .map_err(|error| dial::broken(&self.settings.url, &error))?;
        let result = answer.1;
        accept(&result, &format!("reading below {}", self.settings.base_dn))?;
        let next = result.ctrls.iter().find_map(|Control(kind, raw)| {
            matches!(kind, Some(ControlType::PagedResults)).then(|| std::panic::catch_unwind(|| raw.parse::<PagedResults>().cookie))
        });
        match next {
            None => Ok((answer.0, Vec::new())),
            Some(Ok(cookie)) => Ok((answer.0, cookie)),
            // The library's parser panics on a malformed control; for us it is a broken server.
            Some(Err(_)) => {
                Err(ConnectError::passing("page_broken", "the server's paging control cannot be read", "report it to the server's keeper"))
            }
        }
    }

    async fn enumerate(&self, object: ObjectType, out: &mpsc::Sender<Result<Shown, ConnectError>>) -> Result<usize, ConnectError> {
        let mut ldap = dial::bound(&self.settings, self.secret.as_ref(), &self.tls).await?;
        let known = self.known(&mut ldap).await?;
        let filter = class_filter(object, known).to_string();
        let attributes = known.requested();
        let mut cookie = Vec::new();
        let mut keys: HashSet<String> = HashSet::new();
        loop {
            let (entries, next) = self.page(&mut ldap, &filter, &attributes, cookie).await?;
            let mut batch = Vec::with_capacity(entries.len());
            for entry in entries {
                if entry.is_ref() || entry.is_intermediate() {
                    continue;
                }
                let observed = entry::observed(entry, known)?;
                if keys.insert(observed.key.clone()) {
                    batch.push(observed);
                }
            }
            if !batch.is_empty() && out.send(Ok(Shown::Batch(batch))).await.is_err() {
                return Err(ConnectError::passing("stopped", "the reading was stopped", "start it again"));
            }
            if next.is_empty() {
                break;
            }
            cookie = next;
        }
        // Failing to say good-bye changes nothing that was read.
        let _ = ldap.unbind().await;
        Ok(keys.len())
    }

    /// The entries that fit a filter, on the shared connection.
    async fn search(&self, filter: &Filter) -> Result<Vec<Observed>, ConnectError> {
        let mut ldap = self.line().await?;
        let known = self.known(&mut ldap).await?;
        let (entries, _) = self.page(&mut ldap, &filter.to_string(), &known.requested(), Vec::new()).await?;
        entries.into_iter().filter(|e| !e.is_ref() && !e.is_intermediate()).map(|e| entry::observed(e, known)).collect()
    }

    async fn by_key(&self, key: &str, name: &str) -> Result<Observed, ConnectError> {
        let mut ldap = self.line().await?;
        let filter = self.known(&mut ldap).await?.key_filter(key);
        self.search(&filter).await?.into_iter().next().ok_or_else(|| {
            ConnectError::lasting(
                "gone",
                format!("{name} is not there any more"),
                "read the system again; what was deleted there is shown after it",
            )
        })
    }
}

fn class_filter(object: ObjectType, known: &Known) -> Filter {
    let classes = |names: &[&str]| Filter::Any(names.iter().map(|name| Filter::equal("objectClass", name)).collect());
    match object {
        // A domain controller's computers are persons by their class. Elsewhere the class is unknown,
        // and the negation of what is unknown holds for nobody (RFC 4511 §4.5.1.7).
        ObjectType::Person if known.key == "objectGUID" => {
            Filter::All(vec![classes(&["person"]), Filter::Not(Box::new(Filter::equal("objectClass", "computer")))])
        }
        ObjectType::Person => classes(&["person", "inetOrgPerson"]),
        ObjectType::Service => classes(&["account", "simpleSecurityObject"]),
        ObjectType::Group => classes(&["groupOfNames", "groupOfUniqueNames", "group", "posixGroup"]),
    }
}

/// Turns a result code into an error (RFC 4511 appendix A).
fn accept(result: &LdapResult, doing: &str) -> Result<(), ConnectError> {
    let text = if result.text.trim().is_empty() { String::new() } else { format!(" ({})", result.text.trim()) };
    Err(match result.rc {
        0 => return Ok(()),
        32 => ConnectError::lasting(
            "no_such_object",
            format!("{doing}: the entry does not exist{text}"),
            if result.matched.is_empty() {
                "check the name".to_owned()
            } else {
                format!("the nearest entry that exists is {}", result.matched)
            },
        ),
        50 => ConnectError::lasting(
            "rights",
            format!("{doing}: the service account may not do this{text}"),
            "give the service account the right, or leave this out of the rules",
        ),
        51 | 52 => ConnectError::passing("busy", format!("{doing}: the server is busy{text}"), "it is tried again by itself"),
        3 | 4 | 11 => ConnectError::passing(
            "limit",
            format!("{doing}: the server's limit was reached (code {}){text}", result.rc),
            "raise the limit for the service account, or make the pages smaller",
        ),
        68 => ConnectError::lasting(
            "exists",
            format!("{doing}: an entry of this name exists{text}"),
            "read the system again, so that it can be matched",
        ),
        19 | 21 => ConnectError::lasting(
            "value",
            format!("{doing}: the server refuses a value{text}"),
            "correct the mapping of the attribute that it names",
        ),
        17 | 65 => ConnectError::lasting(
            "schema",
            format!("{doing}: the server's schema does not allow this{text}"),
            "correct the mapping: object classes and attributes must fit",
        ),
        10 => ConnectError::lasting(
            "referral",
            format!("{doing}: the server refers to another server, and referrals are not followed{text}"),
            "connect to the server that holds the entries",
        ),
        code => ConnectError::lasting(
            "refused",
            format!("{doing}: the server answered code {code}{text}"),
            "see RFC 4511, appendix A, for the code",
        ),
    })
}

#[async_trait]
impl Connector for LdapConnector {
    async fn check(&self) -> CheckReport {
        let mut report = CheckReport::default();
        let mut ldap = match dial::check(&self.settings, self.secret.as_ref(), &self.tls, &mut report).await {
            Some(ldap) => ldap,
            None => return report,
        };
        if let Err(error) = self.settings.base_dn.parse::<Dn>() {
            let error = ConnectError::lasting("base_dn", error.to_string(), "for example: dc=skerry,dc=example");
            report.failed("Base DN readable", &error);
            return report;
        }
        let base = ldap
            .with_timeout(dial::seconds(&self.settings))
            .search(&self.settings.base_dn, Scope::Base, "(objectClass=*)", vec!["1.1"])
            .await;
        match base {
            Err(error) => report.failed("Base DN readable", &dial::broken(&self.settings.url, &error)),
            Ok(answer) if answer.1.rc == 32 => {
                let near = if answer.1.matched.is_empty() {
                    String::new()
                } else {
                    format!("; the nearest entry that exists is {}", answer.1.matched)
                };
                let contexts = schema::naming_contexts(&mut ldap).await;
                let help = if contexts.is_empty() {
                    "check the base DN".to_owned()
                } else {
                    format!("this server holds: {}", contexts.join(" · "))
                };
                report.failed(
                    "Base DN readable",
                    &ConnectError::lasting("base_missing", format!("the base DN {} does not exist{near}", self.settings.base_dn), help),
                );
            }
            Ok(answer) => match accept(&answer.1, "reading the base DN") {
                Err(error) => report.failed("Base DN readable", &error),
                Ok(()) => report.passed("Base DN readable", self.settings.base_dn.clone()),
            },
        }
        if !report.healthy() {
            return report;
        }
        match self.known(&mut ldap).await {
            Ok(known) => report.passed("Schema and abilities", known.abilities().join(" · ")),
            Err(error) => {
                report.failed("Schema and abilities", &error);
                return report;
            }
        }
        let known = match self.known.get() {
            Some(known) => known,
            None => return report,
        };
        match self.page(&mut ldap, &class_filter(ObjectType::Person, known).to_string(), &known.requested(), Vec::new()).await {
            Err(error) => report.failed("First entries", &error),
            Ok((entries, next)) => {
                let count = entries.iter().filter(|e| !e.is_ref()).count();
                let more = if next.is_empty() { "in all" } else { "on the first page, and more follow" };
                if count == 0 {
                    report.warned(
                        "First entries",
                        "no person is readable below the base DN",
                        "check the base DN, and that the service account may read entries",
                    );
                } else {
                    report.passed("First entries", format!("{count} persons {more}"));
                }
            }
        }
        report
    }

    async fn describe(&self) -> Result<Description, ConnectError> {
        let mut ldap = dial::bound(&self.settings, self.secret.as_ref(), &self.tls).await?;
        let known = self.known(&mut ldap).await?;
        Ok(Description { schema: known.schemas(), abilities: known.abilities() })
    }

    fn observe(self: Arc<Self>, object: ObjectType) -> Showing {
        crate::show(move |out| async move { self.enumerate(object, &out).await })
    }

    async fn find(&self, _object: ObjectType, probes: &[(String, Value)]) -> Result<Vec<Observed>, ConnectError> {
        let parts: Vec<Filter> = probes.iter().map(|(name, value)| Filter::equal(name, &value.to_string())).collect();
        if parts.is_empty() { Ok(Vec::new()) } else { self.search(&Filter::Any(parts)).await }
    }

    async fn write(&self, write: &Write) -> Result<Observed, ConnectError> {
        let permit = self.access.permit(write.object)?;
        let mut ldap = self.line().await?;
        let known = self.known(&mut ldap).await?;
        let done = write::send(&mut ldap, &self.settings, known, write, &permit).await?;
        match done {
            write::Done::Keyed(key, name) => self.by_key(&key, &name).await,
            write::Done::Named(dn) => {
                let answer = ldap
                    .search(&dn, Scope::Base, "(objectClass=*)", known.requested())
                    .await
                    .map_err(|error| dial::broken(&self.settings.url, &error))?;
                accept(&answer.1, &format!("reading {dn} back"))?;
                let entry = answer.0.into_iter().find(|e| !e.is_ref()).ok_or_else(|| {
                    ConnectError::unknown(
                        "not_read_back",
                        format!("{dn} was made and cannot be read"),
                        "give the service account the right to read what it makes",
                    )
                })?;
                entry::observed(entry, known)
            }
        }
    }
}
