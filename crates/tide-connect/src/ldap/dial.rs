//! Connects to directories: resolve, connect, encrypt, bind; backup hosts are used when the first
//! one fails. Each step has its own errors.

use super::reader::DirectoryReader;
use super::schema;
use crate::settings::LdapAuth;
use crate::tls::Trust;
use crate::{CheckReport, ConnectError, ConnectionState, LdapSettings, Secret};
use ldap3::controls::{Control, RawControl};
use ldap3::{Ldap, LdapConnAsync, LdapConnSettings, LdapError, LdapResult, StdStream};
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use tide_core::states::CheckStepKind;
use tide_ldap::wire::PASSWORD_POLICY;
use tokio::net::TcpStream;
use url::Url;

/// Opens connections to one directory.
pub(super) struct Dialer {
    pub settings: LdapSettings,
    secret: Option<Secret>,
    access: Arc<ConnectionState>,
    tls: Arc<rustls::ClientConfig>,
}

/// A server as its address names it.
#[derive(Clone)]
pub(super) struct Host {
    pub url: String,
    pub tls: bool,
    pub name: String,
    port: u16,
}

/// The port of LDAP without TLS (RFC 4516 section 2).
const PLAIN_PORT: u16 = 389;

/// A connection that a dialer can make ready.
pub(super) trait Line: Sized + Send {
    fn open(
        dialer: &Dialer,
        host: &Host,
    ) -> impl Future<Output = Result<Self, ConnectError>> + Send;
}

impl Line for Ldap {
    async fn open(dialer: &Dialer, host: &Host) -> Result<Self, ConnectError> {
        let addresses = resolve(host).await?;
        let stream = dialer.open(host, &addresses).await?;
        let mut ldap = dialer.start_tls(host, stream).await?;
        dialer.bind(host, &mut ldap).await?;
        Ok(ldap)
    }
}

impl Line for DirectoryReader {
    async fn open(dialer: &Dialer, host: &Host) -> Result<Self, ConnectError> {
        let settings = &dialer.settings;
        let addresses = resolve(host).await?;
        let stream = dialer.open(host, &addresses).await?;
        let mut reader = DirectoryReader::connect_tls(
            host,
            stream,
            settings.start_tls,
            dialer.tls.clone(),
            timeout_of(settings),
        )
        .await?;
        let credentials = match settings.auth {
            LdapAuth::External => None,
            LdapAuth::Simple => match dialer.credentials()? {
                None => return Ok(reader),
                some => some,
            },
        };
        let result = reader.bind(credentials).await?;
        match credentials {
            Some((name, _)) if result.rc == 0 => accepted_bind(name, &result).map(|_| reader),
            None if result.rc == 0 => Ok(reader),
            None => Err(external_refused(&result)),
            Some((name, _)) => {
                let controller = reader
                    .root_values("supportedCapabilities")
                    .await
                    .iter()
                    .any(|oid| oid == schema::CONTROLLER);
                Err(bind_error(name, &result, schema::forms(controller)))
            }
        }
    }
}

impl Host {
    fn place(&self) -> String {
        format!("{}:{}", self.name, self.port)
    }
}

pub(super) fn timeout_of(settings: &LdapSettings) -> Duration {
    Duration::from_secs(u64::from(settings.timeout_seconds.max(1)))
}

fn parse_host(url: &str) -> Result<Host, ConnectError> {
    let wrong = |what: &str| {
        ConnectError::permanent(
            "url",
            format!("`{url}` is not an LDAP address: {what}"),
            "for example: ldap://harbour.skerry.example:389 or ldaps://harbour.skerry.example",
        )
    };
    let parsed = Url::parse(url).map_err(|error| match error {
        url::ParseError::InvalidPort => wrong("the port is not a number"),
        url::ParseError::RelativeUrlWithoutBase => wrong("it must start with ldap:// or ldaps://"),
        url::ParseError::EmptyHost => wrong("it names no host"),
        other => wrong(&other.to_string()),
    })?;
    let tls = match parsed.scheme() {
        "ldap" => false,
        "ldaps" => true,
        _ => return Err(wrong("it must start with ldap:// or ldaps://")),
    };
    let has_more = !parsed.username().is_empty()
        || parsed.query().is_some()
        || !parsed.path().trim_end_matches('/').is_empty();
    let name = parsed.host_str().unwrap_or_default();
    let name = name.trim_start_matches('[').trim_end_matches(']');
    if name.is_empty() || name.contains(' ') || has_more {
        return Err(wrong("it names no host"));
    }
    let port = parsed.port().unwrap_or(if tls { 636 } else { PLAIN_PORT });
    Ok(Host {
        url: url.to_owned(),
        tls,
        name: name.to_owned(),
        port,
    })
}

async fn resolve(host: &Host) -> Result<Vec<SocketAddr>, ConnectError> {
    let found: Vec<SocketAddr> = tokio::net::lookup_host((host.name.as_str(), host.port))
        .await
        .map_err(|error| {
            ConnectError::system_down(
                "name_unknown",
                format!("the name {} cannot be resolved: {error}", host.name),
                "check the spelling, and the name servers of this machine",
            )
        })?
        .collect();
    for address in &found {
        crate::tls::refuse_address(address.ip())?;
    }
    Ok(found)
}

/// Whether the host itself cannot be reached, so that another one is tried.
fn host_is_out(error: &ConnectError) -> bool {
    [
        "name_unknown",
        "unreachable",
        "silent",
        "not_ldap",
        "timeout",
        "cut",
        "busy",
        "unavailable",
    ]
    .contains(&error.code)
        || error.code.starts_with("tls")
        || error.code == "not_tls"
}

impl Dialer {
    pub fn new(
        settings: LdapSettings,
        secret: Option<Secret>,
        access: Arc<ConnectionState>,
    ) -> Result<Self, ConnectError> {
        let own = match (settings.auth, &settings.client_pem, &secret) {
            (LdapAuth::External, Some(pem), Some(key)) => Some((pem.as_str(), key)),
            (LdapAuth::External, _, _) => {
                return Err(ConnectError::permanent(
                    "client_certificate",
                    "SASL EXTERNAL needs a client certificate and its key",
                    "give the certificate as PEM in `client_pem`, and its key as PEM as the secret",
                ));
            }
            _ => None,
        };
        let trust = Trust {
            ca_pem: settings.ca_pem.as_deref(),
            pin: settings.pin_sha256.as_deref(),
            own,
        };
        let tls = crate::tls::client_config(&trust)?;
        Ok(Dialer {
            settings,
            secret,
            access,
            tls,
        })
    }

    fn hosts(&self) -> Vec<String> {
        std::iter::once(&self.settings.url)
            .chain(&self.settings.backups)
            .cloned()
            .collect()
    }

    async fn open(&self, host: &Host, addresses: &[SocketAddr]) -> Result<TcpStream, ConnectError> {
        let remedy = "check host, port and firewall, and that the server runs";
        match tokio::time::timeout(timeout_of(&self.settings), TcpStream::connect(addresses)).await
        {
            Ok(Ok(stream)) => Ok(stream),
            Ok(Err(error)) => Err(ConnectError::system_down(
                "unreachable",
                format!("nothing answers at {}: {error}", host.place()),
                remedy,
            )),
            Err(_) => Err(ConnectError::system_down(
                "unreachable",
                format!(
                    "{} does not answer within {} s",
                    host.place(),
                    self.settings.timeout_seconds
                ),
                remedy,
            )),
        }
    }

    async fn start_tls(&self, host: &Host, stream: TcpStream) -> Result<Ldap, ConnectError> {
        let settings = &self.settings;
        let local = |error: std::io::Error| {
            ConnectError::transient(
                "socket",
                format!("the connection cannot be prepared: {error}"),
                "try again",
            )
        };
        // Without this every small answer over TLS waits for the peer's delayed acknowledgement.
        stream.set_nodelay(true).map_err(local)?;
        let stream = stream.into_std().map_err(local)?;
        let options = LdapConnSettings::new()
            .set_conn_timeout(timeout_of(settings))
            .set_starttls(settings.start_tls && !host.tls)
            .set_config(self.tls.clone())
            .set_std_stream(StdStream::Tcp(stream));
        let connected = tokio::time::timeout(
            timeout_of(settings),
            LdapConnAsync::with_settings(options, &host.url),
        )
        .await;
        match connected {
            Ok(Ok((connection, ldap))) => {
                tokio::spawn(async move {
                    // Every pending operation gets its own error.
                    if let Err(error) = connection.drive().await {
                        tracing::debug!(%error, "an LDAP connection ended");
                    }
                });
                Ok(ldap)
            }
            Ok(Err(LdapError::LdapResult { result })) => Err(start_tls_refused(host, &result)),
            Err(_) | Ok(Err(LdapError::Timeout { .. })) => {
                Err(silence_error(host, timeout_of(settings)))
            }
            Ok(Err(error)) if host.tls || settings.start_tls => {
                Err(crate::tls::handshake_error(&host.name, &error.to_string()))
            }
            Ok(Err(error)) => Err(connection_error(&host.url, &error)),
        }
    }

    /// Binds; what the server warns of, if it does.
    async fn bind(&self, host: &Host, ldap: &mut Ldap) -> Result<Option<String>, ConnectError> {
        let settings = &self.settings;
        if settings.auth == LdapAuth::External {
            let result = ldap
                .with_timeout(timeout_of(settings))
                .sasl_external_bind()
                .await
                .map_err(|error| connection_error(&host.url, &error))?;
            return if result.rc == 0 {
                Ok(None)
            } else {
                Err(external_refused(&result))
            };
        }
        let Some((name, password)) = self.credentials()? else {
            return Ok(None);
        };
        let policy = RawControl {
            ctype: PASSWORD_POLICY.into(),
            crit: false,
            val: None,
        };
        let result = ldap
            .with_controls(vec![policy])
            .with_timeout(timeout_of(settings))
            .simple_bind(name, password)
            .await
            .map_err(|error| connection_error(&host.url, &error))?;
        if result.rc == 0 {
            return accepted_bind(name, &result);
        }
        let forms = schema::name_forms(ldap).await;
        Err(bind_error(name, &result, forms))
    }

    /// The bind name and password; none for an anonymous bind.
    fn credentials(&self) -> Result<Option<(&str, &str)>, ConnectError> {
        let Some(name) = self
            .settings
            .bind_dn
            .as_deref()
            .filter(|name| !name.is_empty())
        else {
            return Ok(None);
        };
        match self
            .secret
            .as_ref()
            .map(Secret::expose)
            .filter(|secret| !secret.is_empty())
        {
            Some(password) => Ok(Some((name, password))),
            // RFC 4513 §5.1.2: a bind with a name and no password would be anonymous.
            None => Err(ConnectError::system_down(
                "no_password",
                format!("there is no password for {name}"),
                "set one: `eager-tide systems secret NAME`",
            )),
        }
    }

    /// Connects and binds to the first host that is reachable.
    pub async fn connect_bound<L: Line>(&self) -> Result<L, ConnectError> {
        if let Some(error) = self.access.expired() {
            return Err(error);
        }
        let rest = Duration::from_secs(self.settings.return_after_seconds.into());
        let mut first = None;
        for url in self.access.host_order(&self.hosts(), rest) {
            let host = parse_host(&url)?;
            match L::open(self, &host).await {
                Ok(line) => {
                    self.access.host_answered(&url);
                    return Ok(line);
                }
                // A refused password would be refused by the next host too, and counted there.
                Err(error) if !host_is_out(&error) => {
                    if error.code == EXPIRED {
                        self.access.note_expired(Some(&error));
                    }
                    return Err(error);
                }
                Err(error) => {
                    self.access.host_failed(&url);
                    first.get_or_insert(error);
                }
            }
        }
        Err(first.unwrap_or_else(|| {
            ConnectError::permanent("url", "no host is named", "give an address")
        }))
    }

    /// Whether referrals to this host are followed.
    pub fn follows_referral(&self, url: &str) -> bool {
        referral_host(url).is_ok_and(|target| self.may_follow(&target))
    }

    fn may_follow(&self, target: &Host) -> bool {
        self.settings.referral_hosts.iter().any(|h| {
            let h = h
                .split_once("://")
                .map_or(h.as_str(), |(_, rest)| rest)
                .trim_end_matches('/');
            h.eq_ignore_ascii_case(&target.name) || h.eq_ignore_ascii_case(&target.place())
        })
    }

    /// Connects to the host of a referral, if referrals to it are followed.
    pub async fn connect_referral<L: Line>(&self, url: &str) -> Result<L, ConnectError> {
        let target = referral_host(url)?;
        if !self.may_follow(&target) {
            return Err(ConnectError::permanent(
                "referral",
                format!(
                    "the server refers to {}, and referrals are not followed there",
                    target.place()
                ),
                "add the host to the system's `referral_hosts` if our service account may sign in there, or exclude that part of the tree",
            ));
        }
        L::open(self, &self.as_secure(target)?).await
    }

    /// A host that a referral names, as it is connected to: where our own connection is protected,
    /// that one is too. Directories name `ldap://` hosts also to those who came over TLS.
    fn as_secure(&self, target: Host) -> Result<Host, ConnectError> {
        let comes_by_tls = self.settings.url.to_lowercase().starts_with("ldaps://");
        if target.tls || self.settings.start_tls || !comes_by_tls {
            return Ok(target);
        }
        if target.port != PLAIN_PORT {
            return Err(ConnectError::permanent(
                "referral_clear_text",
                format!(
                    "the server refers to {} in clear text, and the system is reached over TLS",
                    target.place()
                ),
                "set `start_tls`, or exclude that part of the tree",
            ));
        }
        parse_host(&format!(
            "ldaps://{}",
            if target.name.contains(':') {
                format!("[{}]", target.name)
            } else {
                target.name
            }
        ))
    }

    /// Connects step by step, with what each step found.
    pub async fn check(&self, report: &mut CheckReport) -> Option<Ldap> {
        let host = note_step(
            report,
            CheckStepKind::Address,
            parse_host(&self.settings.url),
            |host| format!("{} port {}", host.name, host.port),
        )?;
        let addresses = note_step(
            report,
            CheckStepKind::NameResolution,
            resolve(&host).await,
            |found| {
                found
                    .iter()
                    .map(|a| a.ip().to_string())
                    .collect::<Vec<_>>()
                    .join(", ")
            },
        )?;
        let stream = note_step(
            report,
            CheckStepKind::Port,
            self.open(&host, &addresses).await,
            |_| host.place(),
        )?;
        let mut ldap = match self.start_tls(&host, stream).await {
            Ok(ldap) => ldap,
            Err(error) => {
                report.failed(CheckStepKind::Tls, &error);
                return None;
            }
        };
        let loopback = addresses.iter().all(|address| address.ip().is_loopback());
        if host.tls || self.settings.start_tls {
            report.passed(
                CheckStepKind::Tls,
                if host.tls {
                    "LDAPS, certificate trusted"
                } else {
                    "StartTLS, certificate trusted"
                },
            );
        } else if loopback {
            report.passed(
                CheckStepKind::Tls,
                "not used: the connection stays on this machine",
            );
        } else {
            report.warned(
                CheckStepKind::Tls,
                "not used: password and data cross the network in clear text",
                "use ldaps:// or StartTLS",
            );
        }
        if let Err(error) = schema::read_root(&mut ldap, &self.settings).await {
            report.failed(CheckStepKind::LdapGreeting, &error);
            return None;
        }
        match self.bind(&host, &mut ldap).await {
            Ok(warning) => {
                self.access.note_expired(None);
                let who = match (&self.settings.auth, &self.settings.bind_dn) {
                    (LdapAuth::External, _) => "with the client certificate".to_owned(),
                    (_, Some(name)) if !name.is_empty() => name.clone(),
                    _ => "anonymously".to_owned(),
                };
                match warning {
                    None => report.passed(CheckStepKind::Bind, who),
                    Some(warning) => {
                        let help =
                            "set a new password in time, or exempt the service account from expiry";
                        report.warned(CheckStepKind::Bind, format!("{who}, and {warning}"), help);
                    }
                }
            }
            Err(error) => {
                if error.code == EXPIRED {
                    self.access.note_expired(Some(&error));
                }
                report.failed(CheckStepKind::Bind, &error);
                return None;
            }
        }
        self.access.host_answered(&self.settings.url);
        Some(ldap)
    }

    /// Tests each backup host; a failure is a warning, because the first host works.
    pub async fn check_backups(&self, report: &mut CheckReport) {
        for url in &self.settings.backups {
            let tried = match parse_host(url) {
                Ok(host) => Ldap::open(self, &host).await,
                Err(error) => Err(error),
            };
            match tried {
                Ok(mut ldap) => {
                    report.passed(
                        CheckStepKind::BackupHost,
                        format!("{url} answers, and accepts the service account"),
                    );
                    // A failed unbind has no consequence.
                    let _ = ldap.unbind().await;
                }
                Err(error) => report.warned(
                    CheckStepKind::BackupHost,
                    format!("{url}: {}", error.message),
                    error.remedy,
                ),
            }
        }
    }
}

/// The host that a referral's URL names (RFC 4516 §2).
fn referral_host(url: &str) -> Result<Host, ConnectError> {
    parse_host(url.split_once("://").map_or(url, |(scheme, rest)| {
        let end = rest.find('/').unwrap_or(rest.len());
        &url[..scheme.len() + 3 + end]
    }))
}

/// The base that a referral's URL names (RFC 4516 §2), with its escapes undone.
pub(super) fn referral_base(url: &str) -> Option<String> {
    let path = url
        .split_once("://")?
        .1
        .split_once('/')?
        .1
        .split('?')
        .next()?;
    let base = percent_encoding::percent_decode_str(path)
        .decode_utf8()
        .ok()?;
    Some(base.into_owned())
}

fn clip(text: &str) -> String {
    let text: String = text.chars().filter(|c| !c.is_control()).take(200).collect();
    if text.trim().is_empty() {
        String::new()
    } else {
        format!(" ({})", text.trim())
    }
}

/// The warnings of a password policy after a successful bind: an error if the account will soon be
/// unusable.
fn accepted_bind(name: &str, result: &LdapResult) -> Result<Option<String>, ConnectError> {
    match policy_warning(result) {
        // Each further bind would use one up, until none is left.
        Some(Warning::Grace(left)) => Err(ConnectError::system_down(
            EXPIRED,
            format!("the password of {name} has expired; {left} grace sign-ins are left"),
            "set a new one, and exempt the service account from expiry; `eager-tide systems test NAME` tests it at once",
        )),
        _ if policy_error(result) == Some(2) => Err(ConnectError::system_down(
            EXPIRED,
            format!("{name} must change its password first"),
            "set its password, and clear the requirement; `eager-tide systems test NAME` tests it at once",
        )),
        Some(Warning::Expires(seconds)) => Ok(Some(format!(
            "its password expires in {} h",
            seconds / 3600
        ))),
        None => Ok(None),
    }
}

/// The code of a password that has expired.
const EXPIRED: &str = "password_expired";

/// A warning of a password policy after a successful bind (draft-behera §6.2).
enum Warning {
    /// The password expires in this number of seconds.
    Expires(u64),
    /// It has expired, and this number of further binds is allowed.
    Grace(u64),
}

/// The warning of a password policy's answer: `[0]` of its value, which holds `[0]` seconds or
/// `[1]` grace logins.
fn policy_warning(result: &LdapResult) -> Option<Warning> {
    let value = result.ctrls.iter().find_map(|Control(_, raw)| {
        (raw.ctype == PASSWORD_POLICY)
            .then(|| raw.val.clone())
            .flatten()
    })?;
    // SEQUENCE { [0] { [0 or 1] number } … }, all of it short enough for lengths of one octet.
    let [0x30, _, 0xa0, _, kind @ (0x80 | 0x81), length, rest @ ..] = value.as_slice() else {
        return None;
    };
    let number = rest
        .get(..usize::from(*length))?
        .iter()
        .fold(0u64, |sum, octet| (sum << 8) | u64::from(*octet));
    Some(if *kind == 0x80 {
        Warning::Expires(number)
    } else {
        Warning::Grace(number)
    })
}

/// The error of a password policy's answer: `[1]` of its value (draft-behera §6.2).
fn policy_error(result: &LdapResult) -> Option<u8> {
    let value = result.ctrls.iter().find_map(|Control(_, raw)| {
        (raw.ctype == PASSWORD_POLICY)
            .then(|| raw.val.clone())
            .flatten()
    })?;
    value
        .windows(3)
        .rev()
        .find(|w| w[0] == 0x81 && w[1] == 1)
        .map(|w| w[2])
}

/// The error of a refused bind. A domain controller states the cause by a number in its text.
fn bind_error(name: &str, result: &LdapResult, forms: &str) -> ConnectError {
    let text = clip(&result.text);
    let sub = result.text.split("data ").nth(1).map(|rest| {
        rest.chars()
            .take_while(char::is_ascii_hexdigit)
            .collect::<String>()
    });
    let account = |code, what: &str, remedy: &str| {
        ConnectError::system_down(code, format!("{name} {what}{text}"), remedy)
    };
    match (result.rc, policy_error(result), sub.as_deref()) {
        (49, Some(1), _) | (_, _, Some("775")) => account(
            "account_locked",
            "is locked, by too many wrong passwords or by an administrator",
            "unlock the service account in the directory, then give the right password here",
        ),
        (49, Some(0), _) | (_, _, Some("532")) => account(
            "password_expired",
            "has a password that has expired",
            "set a new one, and exempt the service account from expiry",
        ),
        (_, _, Some("773")) => account(
            "password_expired",
            "must change its password first",
            "set its password, and clear the requirement",
        ),
        (_, _, Some("533")) => account(
            "account_disabled",
            "is disabled",
            "enable the service account in the directory",
        ),
        (_, _, Some("701")) => account(
            "account_expired",
            "has expired",
            "extend the service account in the directory",
        ),
        (49 | 34, _, _) if !name.contains(['=', '@', '\\']) => ConnectError::system_down(
            "bind_name",
            format!("{name} is not a name that this server accepts{text}"),
            format!("give the service account as {forms}"),
        ),
        (49, _, _) => account(
            "bind_refused",
            "was refused: the name or the password is wrong",
            &format!("check both; this server accepts {forms}"),
        ),
        (34, _, _) => ConnectError::system_down(
            "bind_name",
            format!("{name} is not a name that this server accepts{text}"),
            format!("give the service account as {forms}"),
        ),
        (8 | 13, _, _) => ConnectError::system_down(
            "tls_needed",
            format!("the server accepts no password over an unprotected connection{text}"),
            "use ldaps:// or StartTLS",
        ),
        (48, _, _) => account(
            "auth_unsuited",
            "may not bind with a password",
            "give it a password in the directory, or use a client certificate",
        ),
        (50, _, _) => account(
            "bind_rights",
            "may not bind",
            "allow the service account to authenticate in the directory's access rules",
        ),
        (19, _, _) => account(
            "account_locked",
            "is locked after too many wrong passwords",
            "unlock the service account in the directory, then give the right password here",
        ),
        // So a directory answers for an account that was made inactive.
        (53, _, _) => account(
            "account_disabled",
            "was refused: the account is inactive",
            "activate the service account in the directory",
        ),
        (51 | 52, _, _) => ConnectError::transient(
            "unavailable",
            format!("the server is busy or going down{text}"),
            "retried automatically",
        ),
        (code, _, _) => ConnectError::system_down(
            "bind_failed",
            format!("{name} was refused with code {code}{text}"),
            "see RFC 4511, appendix A, for the code",
        ),
    }
}

fn note_step<T>(
    report: &mut CheckReport,
    kind: CheckStepKind,
    result: Result<T, ConnectError>,
    said: impl Fn(&T) -> String,
) -> Option<T> {
    match result {
        Ok(value) => {
            report.passed(kind, said(&value));
            Some(value)
        }
        Err(error) => {
            report.failed(kind, &error);
            None
        }
    }
}

pub(super) fn start_tls_refused(host: &Host, result: &LdapResult) -> ConnectError {
    ConnectError::system_down(
        "start_tls_refused",
        format!(
            "{} does not offer StartTLS (code {}): {}",
            host.name, result.rc, result.text
        ),
        "use ldaps:// if the server has it",
    )
}

pub(super) fn silence_error(host: &Host, limit: Duration) -> ConnectError {
    ConnectError::system_down(
        "silent",
        format!(
            "{} accepts the connection but sends nothing within {} s",
            host.place(),
            limit.as_secs()
        ),
        "check that the port speaks LDAP, and whether it expects TLS from the start (ldaps://)",
    )
}

fn external_refused(result: &LdapResult) -> ConnectError {
    let text = clip(&result.text);
    match result.rc {
        7 => ConnectError::system_down(
            "external_refused",
            format!("the server offers no SASL EXTERNAL on this connection{text}"),
            "use ldaps:// or StartTLS, and configure the server to request client certificates",
        ),
        code => ConnectError::system_down(
            "bind_refused",
            format!("the client certificate was refused (code {code}){text}"),
            "check which certificates the server maps to an account",
        ),
    }
}

pub(super) fn timed_out(url: &str) -> ConnectError {
    ConnectError::transient(
        "timeout",
        format!("{url} did not answer in time"),
        "retried automatically; if it persists, raise the time-out",
    )
}

pub(super) fn cut(url: &str, why: impl std::fmt::Display) -> ConnectError {
    ConnectError::transient(
        "cut",
        format!("the connection with {url} was cut: {why}"),
        "retried automatically; check that the server is running",
    )
}

/// The error of a broken connection.
pub(super) fn connection_error(url: &str, error: &LdapError) -> ConnectError {
    match error {
        LdapError::Timeout { .. } => timed_out(url),
        LdapError::FilterParsing => ConnectError::permanent(
            "filter",
            "the search filter cannot be used",
            "see RFC 4515 for how a filter is written",
        ),
        other => cut(url, other),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_read_and_nonsense_is_refused() {
        let of = |url: &str| {
            parse_host(url)
                .map(|h| (h.tls, h.name, h.port))
                .map_err(|e| e.code)
        };
        assert_eq!(
            of("ldap://harbour:1389/"),
            Ok((false, "harbour".into(), 1389))
        );
        assert_eq!(of("ldaps://harbour"), Ok((true, "harbour".into(), 636)));
        assert_eq!(of("ldap://[::1]:389"), Ok((false, "::1".into(), 389)));
        for bad in [
            "http://harbour",
            "harbour",
            "ldap://",
            "ldap://a:b",
            "ldap://a@b",
        ] {
            assert_eq!(of(bad), Err("url"), "{bad}");
        }
    }

    #[test]
    fn a_referral_never_leads_out_of_tls() {
        let target = |settings: LdapSettings, referral: &str| {
            let dialer = Dialer::new(settings, None, Arc::default()).expect("settings");
            dialer
                .as_secure(referral_host(referral).expect("an address"))
                .map(|host| host.url)
                .map_err(|error| error.code)
        };
        let tls = || LdapSettings::new("ldaps://harbour.example", "dc=example");
        assert_eq!(
            target(tls(), "ldap://other.example/dc=other"),
            Ok("ldaps://other.example".to_owned())
        );
        assert_eq!(
            target(tls(), "ldap://[2001:db8::1]/dc=other"),
            Ok("ldaps://[2001:db8::1]".to_owned())
        );
        assert_eq!(
            target(tls(), "ldaps://other.example:1636/dc=other"),
            Ok("ldaps://other.example:1636".to_owned())
        );
        assert_eq!(
            target(tls(), "ldap://other.example:1389/dc=other"),
            Err("referral_clear_text")
        );
        // StartTLS is demanded there as it is here; without any TLS there is nothing to keep.
        let start_tls = LdapSettings {
            start_tls: true,
            ..LdapSettings::new("ldap://harbour.example", "dc=example")
        };
        assert_eq!(
            target(start_tls, "ldap://other.example:1389/dc=other"),
            Ok("ldap://other.example:1389".to_owned())
        );
        let plain = LdapSettings::new("ldap://127.0.0.1", "dc=example");
        assert_eq!(
            target(plain, "ldap://other.example:1389/dc=other"),
            Ok("ldap://other.example:1389".to_owned())
        );
    }

    #[test]
    fn a_controllers_numbers_have_meanings() {
        let of = |rc: u32, text: &str| {
            let result = LdapResult {
                rc,
                matched: String::new(),
                text: text.into(),
                refs: vec![],
                ctrls: vec![],
            };
            bind_error("crew@skerry.example", &result, "a DN").code
        };
        let said = |data: &str| {
            format!(
                "80090308: LdapErr: DSID-0C0903A9, comment: AcceptSecurityContext error, data {data}, v1db1"
            )
        };
        assert_eq!(of(49, &said("52e")), "bind_refused");
        assert_eq!(of(49, &said("775")), "account_locked");
        assert_eq!(of(49, &said("533")), "account_disabled");
        assert_eq!(of(49, &said("701")), "account_expired");
        assert_eq!(of(49, &said("773")), "password_expired");
        assert_eq!(of(8, ""), "tls_needed");
        assert_eq!(
            of(19, "Exceed password retry limit. Please try later."),
            "account_locked"
        );
        assert_eq!(
            of(53, "Account inactivated. Contact system administrator."),
            "account_disabled"
        );
    }

    #[test]
    fn a_password_policy_warns_in_its_own_octets() {
        let of = |octets: &[u8]| {
            let raw = RawControl {
                ctype: PASSWORD_POLICY.into(),
                crit: false,
                val: Some(octets.to_vec()),
            };
            policy_warning(&LdapResult {
                rc: 0,
                matched: String::new(),
                text: String::new(),
                refs: vec![],
                ctrls: vec![Control(None, raw)],
            })
        };
        assert!(matches!(
            of(&[0x30, 6, 0xa0, 4, 0x80, 2, 0xc4, 0xe0]),
            Some(Warning::Expires(50400))
        ));
        assert!(matches!(
            of(&[0x30, 5, 0xa0, 3, 0x81, 1, 2]),
            Some(Warning::Grace(2))
        ));
        assert!(of(&[0x30, 3, 0x81, 1, 2]).is_none() && of(&[0x30, 0]).is_none());
    }
}
