//! The address and options of a system. Secrets are stored elsewhere.

use crate::ConnectError;
use serde::{Deserialize, Deserializer, Serialize};
use tide_core::states::{FeedFormat, SystemKind};
use zeroize::Zeroizing;

/// A secret, wiped when it is dropped and never shown.
#[derive(Clone)]
pub struct Secret(Zeroizing<String>);

impl Secret {
    /// Stores a secret.
    pub fn new(text: impl Into<String>) -> Self {
        Secret(Zeroizing::new(text.into()))
    }

    pub(crate) fn expose(&self) -> &str {
        &self.0
    }
}

impl std::fmt::Debug for Secret {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Secret(…)")
    }
}

/// How we make ourselves known to a directory.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum LdapAuth {
    /// A simple bind; without a name, anonymous (RFC 4513 §5.1).
    #[default]
    Simple,
    /// A client certificate, whose key is the system's secret (SASL EXTERNAL, RFC 4422 appendix A).
    External,
}

/// A directory over LDAP.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LdapSettings {
    /// `ldap://host:port` or `ldaps://host:port`.
    pub url: String,
    /// Servers that hold the same, in the order in which they are tried when the first fails.
    #[serde(default, deserialize_with = "text_list")]
    pub backups: Vec<String>,
    /// After how many seconds a server that failed is tried first again.
    #[serde(default = "return_after")]
    pub return_after_seconds: u32,
    /// Ask for TLS on a plain connection (RFC 4511 §4.14).
    #[serde(default)]
    pub start_tls: bool,
    /// How we make ourselves known.
    #[serde(default)]
    pub auth: LdapAuth,
    /// The service account; none binds without a name.
    #[serde(default)]
    pub bind_dn: Option<String>,
    /// Below which entry is read.
    pub base_dn: String,
    /// The certificate authority to trust instead of the machine's, as PEM.
    #[serde(default)]
    pub ca_pem: Option<String>,
    /// The SHA-256 of the one certificate to trust, in hexadecimal, instead of any authority.
    #[serde(default)]
    pub pin_sha256: Option<String>,
    /// Our own certificate, as PEM, for [`LdapAuth::External`].
    #[serde(default)]
    pub client_pem: Option<String>,
    /// Entries of one page (RFC 2696).
    #[serde(default = "page_size")]
    pub page_size: u16,
    /// How long one answer may take, in seconds.
    #[serde(default = "timeout")]
    pub timeout_seconds: u16,
    /// How many connections write at once, from 1 to 16. Changes of one entry stay in order.
    #[serde(default = "connections")]
    pub connections: u8,
    /// Hosts (`host` or `host:port`) to which referrals are followed, with the same service
    /// account. Empty by default: referrals are then reported and not followed.
    #[serde(default, deserialize_with = "text_list")]
    pub referral_hosts: Vec<String>,
    /// The object classes that make an entry a person; none named means `person` and
    /// `inetOrgPerson`, without computers.
    #[serde(default, deserialize_with = "text_list")]
    pub person_classes: Vec<String>,
    /// The object classes of service accounts; none named means `account` and
    /// `simpleSecurityObject`.
    #[serde(default, deserialize_with = "text_list")]
    pub service_classes: Vec<String>,
    /// The object classes of groups; none named means `groupOfNames`, `groupOfUniqueNames`, `group`
    /// and `posixGroup`.
    #[serde(default, deserialize_with = "text_list")]
    pub group_classes: Vec<String>,
    /// The secret and people's data may cross the network in clear text.
    #[serde(default)]
    pub insecure: bool,
    /// Detect password changes by a fingerprint of the hash, so that the hash can be copied to
    /// another directory.
    #[serde(default)]
    pub mark_passwords: bool,
    /// A reading that shows fewer entries than the last one by more than this many percent is
    /// refused whole.
    #[serde(default = "shrink")]
    pub max_shrink_percent: u8,
}

/// A list of texts, also as one text with commas: so a person types it.
fn text_list<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Vec<String>, D::Error> {
    #[derive(Deserialize)]
    #[serde(untagged, expecting = "a list, or a text with commas")]
    enum List {
        One(String),
        Many(Vec<String>),
    }
    Ok(match List::deserialize(deserializer)? {
        List::Many(all) => all,
        List::One(text) => text
            .split(',')
            .map(str::trim)
            .filter(|one| !one.is_empty())
            .map(str::to_owned)
            .collect(),
    })
}

impl LdapSettings {
    /// Settings with everything that may be left out left out.
    pub fn new(url: impl Into<String>, base_dn: impl Into<String>) -> Self {
        LdapSettings {
            url: url.into(),
            backups: Vec::new(),
            return_after_seconds: return_after(),
            start_tls: false,
            auth: LdapAuth::Simple,
            bind_dn: None,
            base_dn: base_dn.into(),
            ca_pem: None,
            pin_sha256: None,
            client_pem: None,
            page_size: page_size(),
            timeout_seconds: timeout(),
            connections: connections(),
            referral_hosts: Vec::new(),
            person_classes: Vec::new(),
            service_classes: Vec::new(),
            group_classes: Vec::new(),
            insecure: false,
            mark_passwords: false,
            max_shrink_percent: shrink(),
        }
    }
}

/// How we make ourselves known to a SCIM service.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "method", rename_all = "snake_case", deny_unknown_fields)]
pub enum ScimAuth {
    /// A bearer token (RFC 6750); the secret is the token.
    #[default]
    Bearer,
    /// A user and a password (RFC 7617); the secret is the password.
    Basic {
        /// The user.
        user: String,
    },
    /// Client credentials (RFC 6749 §4.4); the secret is the client's.
    Oauth {
        /// The token endpoint.
        token_url: String,
        /// The client.
        client_id: String,
        /// The requested scope.
        #[serde(default)]
        scope: Option<String>,
    },
    /// A header of the service's own; the secret is its value.
    Header {
        /// The header's name.
        name: String,
    },
}

/// A SCIM 2.0 service.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ScimSettings {
    /// The base URL, such as `https://host/scim/v2`.
    pub url: String,
    /// How we make ourselves known.
    #[serde(default)]
    pub auth: ScimAuth,
    /// The certificate authority to trust instead of the machine's, as PEM.
    #[serde(default)]
    pub ca_pem: Option<String>,
    /// The SHA-256 of the one certificate to trust, in hexadecimal, instead of any authority.
    #[serde(default)]
    pub pin_sha256: Option<String>,
    /// Resources of one page.
    #[serde(default = "scim_page")]
    pub page_size: u16,
    /// How long one answer may take, in seconds.
    #[serde(default = "timeout")]
    pub timeout_seconds: u16,
    /// The most requests that are on their way at a time.
    #[serde(default = "in_flight")]
    pub in_flight: u16,
    /// The most requests that are sent in a second; none is no limit of our own.
    #[serde(default)]
    pub per_second: Option<u16>,
    /// How many seconds the service may take to list what was created. After a lost response,
    /// nothing is created again before.
    #[serde(default = "visible_after")]
    pub visible_after_seconds: u16,
    /// The secret and people's data may cross the network in clear text.
    #[serde(default)]
    pub insecure: bool,
    /// A reading that shows fewer resources than the last one by more than this many percent is
    /// refused whole.
    #[serde(default = "shrink")]
    pub max_shrink_percent: u8,
}

impl ScimSettings {
    /// Settings with everything that may be left out left out.
    pub fn new(url: impl Into<String>) -> Self {
        ScimSettings {
            url: url.into(),
            auth: ScimAuth::Bearer,
            ca_pem: None,
            pin_sha256: None,
            page_size: scim_page(),
            timeout_seconds: timeout(),
            in_flight: in_flight(),
            per_second: None,
            visible_after_seconds: visible_after(),
            insecure: false,
            max_shrink_percent: shrink(),
        }
    }
}

/// A feed: a file, the newest file of a folder, or a file pulled over HTTP.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FeedSettings {
    /// The file, or the folder in which the newest file counts.
    #[serde(default)]
    pub path: Option<String>,
    /// Where the file is pulled from instead.
    #[serde(default)]
    pub url: Option<String>,
    /// The column that identifies a row and never changes.
    pub key: String,
    /// The column that people know a row by; the key, if none is named.
    #[serde(default)]
    pub name: Option<String>,
    /// How the file is written.
    #[serde(default)]
    pub format: FeedFormat,
    /// The delimiter of a CSV file; detected if none is given.
    #[serde(default)]
    pub delimiter: Option<char>,
    /// A reading that shows fewer rows than the last complete one, by more than this share in
    /// percent, is refused whole.
    #[serde(default = "shrink")]
    pub max_shrink_percent: u8,
    /// The certificate authority to trust instead of the machine's, as PEM, for a pull.
    #[serde(default)]
    pub ca_pem: Option<String>,
    /// How long one answer of a pull may take, in seconds.
    #[serde(default = "timeout")]
    pub timeout_seconds: u16,
    /// The secret is the query of the address, as in a signed URL; otherwise it is a bearer token.
    #[serde(default)]
    pub signed_url: bool,
    /// The file may be pulled over the network in clear text.
    #[serde(default)]
    pub insecure: bool,
}

/// A system that calls us.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PushSettings {}

fn return_after() -> u32 {
    60
}

fn connections() -> u8 {
    4
}

fn page_size() -> u16 {
    500
}

fn scim_page() -> u16 {
    100
}

fn timeout() -> u16 {
    30
}

fn in_flight() -> u16 {
    8
}

fn shrink() -> u8 {
    20
}

fn visible_after() -> u16 {
    60
}

/// The settings of a system, by its kind.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Settings {
    /// A directory.
    Ldap(LdapSettings),
    /// A SCIM service.
    Scim(ScimSettings),
    /// A feed.
    Feed(FeedSettings),
    /// A system that calls us.
    Push(PushSettings),
}

fn parse<T: serde::de::DeserializeOwned>(settings: &serde_json::Value) -> Result<T, ConnectError> {
    serde_path_to_error::deserialize(settings).map_err(|error| {
        let mut said = error.inner().to_string();
        for (kind, most) in [("u8", "255"), ("u16", "65535"), ("u32", "4294967295")] {
            said = said.replace(
                &format!("expected {kind}"),
                &format!("expected a whole number from 0 to {most}"),
            );
        }
        let setting = Some(error.path().to_string())
            .filter(|path| path != ".")
            .map_or_else(String::new, |path| format!("`{path}`: "));
        ConnectError::permanent(
            "settings",
            format!("invalid settings: {setting}{said}"),
            "correct them and try again",
        )
    })
}

impl Settings {
    /// Reads the settings of a kind.
    pub fn read(kind: SystemKind, settings: &serde_json::Value) -> Result<Settings, ConnectError> {
        match kind {
            SystemKind::Ldap => parse(settings).map(Settings::Ldap),
            SystemKind::Scim => parse(settings).map(Settings::Scim),
            SystemKind::Feed => parse(settings).map(Settings::Feed),
            SystemKind::Push => parse(settings).map(Settings::Push),
        }
    }

    /// By how many percent the number of accounts may fall in a full read. A feed checks its rows
    /// itself.
    pub fn max_shrink_percent(&self) -> Option<u8> {
        match self {
            Settings::Ldap(settings) => Some(settings.max_shrink_percent),
            Settings::Scim(settings) => Some(settings.max_shrink_percent),
            Settings::Feed(_) | Settings::Push(_) => None,
        }
    }

    /// The field that holds the system's secret.
    pub fn secret_field(&self) -> &'static str {
        match self {
            Settings::Ldap(_) => "password",
            Settings::Scim(_) | Settings::Feed(_) | Settings::Push(_) => "token",
        }
    }

    /// The hosts that the secret is sent to, in lower case.
    pub fn secret_hosts(&self) -> Vec<String> {
        let host = |url: &String| {
            let rest = url.split_once("://").map_or(url.as_str(), |(_, rest)| rest);
            host_of(rest).to_lowercase()
        };
        match self {
            Settings::Ldap(settings) => {
                let referrals = settings
                    .referral_hosts
                    .iter()
                    .map(|host| host_of(host).to_lowercase());
                std::iter::once(&settings.url)
                    .chain(&settings.backups)
                    .map(host)
                    .chain(referrals)
                    .collect()
            }
            Settings::Scim(settings) => {
                let tokens = match &settings.auth {
                    ScimAuth::Oauth { token_url, .. } => Some(token_url),
                    _ => None,
                };
                std::iter::once(&settings.url)
                    .chain(tokens)
                    .map(host)
                    .collect()
            }
            Settings::Feed(settings) => settings.url.iter().map(host).collect(),
            Settings::Push(_) => Vec::new(),
        }
    }

    /// All settings, those at their default too, as they would be written.
    pub fn to_json(&self) -> serde_json::Value {
        let json = match self {
            Settings::Ldap(settings) => serde_json::to_value(settings),
            Settings::Scim(settings) => serde_json::to_value(settings),
            Settings::Feed(settings) => serde_json::to_value(settings),
            Settings::Push(settings) => serde_json::to_value(settings),
        };
        json.unwrap_or_default()
    }

    /// Where a secret is sent and how it is protected: scheme, host and port of each URL,
    /// StartTLS, authority and pin. If something is added, the secret must be given again.
    pub fn secret_ways(&self) -> Vec<String> {
        let trust = |ca: Option<&String>, pin: Option<&String>| {
            let pin = pin.map(|pin| pin.to_lowercase().replace(':', ""));
            [
                format!("authority {}", ca.map_or("", |ca| ca.trim())),
                format!("pinned certificate {}", pin.unwrap_or_default()),
            ]
        };
        match self {
            Settings::Ldap(settings) => {
                let referrals = settings
                    .referral_hosts
                    .iter()
                    .map(|host| format!("referral to {}", host.to_lowercase()));
                let urls = std::iter::once(&settings.url)
                    .chain(&settings.backups)
                    .map(|url| origin(url));
                let tls = [format!("StartTLS {}", settings.start_tls)];
                urls.chain(referrals)
                    .chain(tls)
                    .chain(trust(
                        settings.ca_pem.as_ref(),
                        settings.pin_sha256.as_ref(),
                    ))
                    .collect()
            }
            Settings::Scim(settings) => {
                let tokens = match &settings.auth {
                    ScimAuth::Oauth { token_url, .. } => Some(origin(token_url)),
                    _ => None,
                };
                let urls = std::iter::once(origin(&settings.url)).chain(tokens);
                urls.chain(trust(
                    settings.ca_pem.as_ref(),
                    settings.pin_sha256.as_ref(),
                ))
                .collect()
            }
            Settings::Feed(settings) => settings
                .url
                .iter()
                .map(|url| origin(url))
                .chain(trust(settings.ca_pem.as_ref(), None))
                .collect(),
            Settings::Push(_) => Vec::new(),
        }
    }

    /// Rejects settings that would send a secret in clear text to another machine, unless they
    /// set `insecure`.
    pub fn check_clear_text(&self) -> Result<(), ConnectError> {
        let (urls, protected, insecure): (Vec<&String>, bool, bool) = match self {
            Settings::Ldap(settings) => {
                // Without a name there is no password (RFC 4513 section 5.1), and EXTERNAL needs
                // TLS anyhow.
                let protected = settings.start_tls
                    || settings.bind_dn.is_none()
                    || settings.auth == LdapAuth::External;
                (
                    std::iter::once(&settings.url)
                        .chain(&settings.backups)
                        .collect(),
                    protected,
                    settings.insecure,
                )
            }
            Settings::Scim(settings) => {
                let tokens = match &settings.auth {
                    ScimAuth::Oauth { token_url, .. } => Some(token_url),
                    _ => None,
                };
                (
                    std::iter::once(&settings.url).chain(tokens).collect(),
                    false,
                    settings.insecure,
                )
            }
            Settings::Feed(settings) => (settings.url.iter().collect(), false, settings.insecure),
            Settings::Push(_) => return Ok(()),
        };
        let is_clear = |url: &&&String| {
            let (scheme, rest) = url.split_once("://").unwrap_or(("", url));
            matches!(scheme.to_lowercase().as_str(), "ldap" | "http")
                && !is_this_machine(host_of(rest))
        };
        match urls.iter().find(is_clear) {
            Some(url) if !protected && !insecure => Err(ConnectError::permanent(
                "clear_text",
                format!(
                    "{url} would carry the secret and people's data over the network in clear text"
                ),
                "use ldaps://, https:// or StartTLS; if the network is trusted, set `insecure = true`",
            )),
            _ => Ok(()),
        }
    }
}

/// The host of an address without its scheme.
fn host_of(rest: &str) -> &str {
    let authority = rest.split(['/', '?', '#']).next().unwrap_or_default();
    match authority.strip_prefix('[') {
        Some(inner) => inner.split(']').next().unwrap_or_default(),
        None => authority
            .rsplit_once(':')
            .map_or(authority, |(host, _)| host),
    }
}

fn is_this_machine(host: &str) -> bool {
    host.eq_ignore_ascii_case("localhost")
        || host
            .parse::<std::net::IpAddr>()
            .is_ok_and(|address| address.is_loopback())
}

/// Scheme, host and port of an address, each as it counts: `ldap://Harbour` and
/// `ldap://harbour:389/` are one.
fn origin(url: &str) -> String {
    let (scheme, rest) = url.split_once("://").unwrap_or(("", url));
    let scheme = scheme.to_lowercase();
    let authority = rest
        .split(['/', '?', '#'])
        .next()
        .unwrap_or_default()
        .to_lowercase();
    let port = match scheme.as_str() {
        "ldap" => ":389",
        "ldaps" => ":636",
        "http" => ":80",
        "https" => ":443",
        _ => "",
    };
    format!(
        "{scheme}://{}",
        authority.strip_suffix(port).unwrap_or(&authority)
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_setting_that_cannot_be_used_is_named() {
        let said = |value: serde_json::Value| {
            Settings::read(SystemKind::Scim, &value)
                .expect_err("refused")
                .message
        };
        assert_eq!(
            said(serde_json::json!({"url": "https://berthing.example", "page_size": 70000})),
            "invalid settings: `page_size`: invalid value: integer `70000`, expected a whole number from 0 to 65535"
        );
        assert_eq!(
            said(serde_json::json!({})),
            "invalid settings: missing field `url`"
        );
    }

    #[test]
    fn whatever_weakens_the_way_of_a_secret_is_another_way() {
        let ways = |more: serde_json::Value| {
            let mut settings = serde_json::json!({"url": "ldaps://harbour.example", "base_dn": "dc=example", "bind_dn": "cn=tide"});
            more.as_object()
                .into_iter()
                .flatten()
                .for_each(|(name, value)| settings[name] = value.clone());
            Settings::read(SystemKind::Ldap, &settings)
                .expect("settings")
                .secret_ways()
        };
        let before = ways(serde_json::json!({}));
        let stays = |more: serde_json::Value| ways(more).iter().all(|way| before.contains(way));
        assert!(
            stays(serde_json::json!({"page_size": 10}))
                && stays(serde_json::json!({"url": "ldaps://HARBOUR.example:636/"}))
        );
        for other in [
            serde_json::json!({"url": "ldap://harbour.example"}),
            serde_json::json!({"url": "ldaps://harbour.example:1636"}),
            serde_json::json!({"backups": "ldaps://other.example"}),
            serde_json::json!({"start_tls": true}),
            serde_json::json!({"ca_pem": "another"}),
            serde_json::json!({"pin_sha256": "00ff"}),
            serde_json::json!({"referral_hosts": "other.example"}),
        ] {
            assert!(!stays(other.clone()), "{other}");
        }
    }

    #[test]
    fn no_secret_leaves_this_machine_in_clear_text_unless_the_settings_say_so() {
        let of = |kind: SystemKind, settings: serde_json::Value| {
            Settings::read(kind, &settings)
                .expect("settings")
                .check_clear_text()
                .map_err(|error| error.code)
        };
        let ldap = |url: &str, more: serde_json::Value| {
            let mut settings =
                serde_json::json!({"url": url, "base_dn": "dc=example", "bind_dn": "cn=tide"});
            more.as_object()
                .into_iter()
                .flatten()
                .for_each(|(name, value)| settings[name] = value.clone());
            of(SystemKind::Ldap, settings)
        };
        let none = || serde_json::json!({});
        assert_eq!(ldap("ldap://harbour.example", none()), Err("clear_text"));
        assert_eq!(
            ldap(
                "ldap://127.0.0.1:1389",
                serde_json::json!({"backups": "ldap://harbour.example"})
            ),
            Err("clear_text")
        );
        for sound in [
            "ldap://127.0.0.1:1389",
            "ldap://[::1]:1389/",
            "ldap://localhost",
            "ldaps://harbour.example",
        ] {
            assert_eq!(ldap(sound, none()), Ok(()), "{sound}");
        }
        assert_eq!(
            ldap(
                "ldap://harbour.example",
                serde_json::json!({"start_tls": true})
            ),
            Ok(())
        );
        assert_eq!(
            ldap(
                "ldap://harbour.example",
                serde_json::json!({"insecure": true})
            ),
            Ok(())
        );
        assert_eq!(
            ldap(
                "ldap://harbour.example",
                serde_json::json!({"bind_dn": null})
            ),
            Ok(()),
            "no password is sent"
        );
        assert_eq!(
            of(
                SystemKind::Scim,
                serde_json::json!({"url": "http://berthing.example/scim"})
            ),
            Err("clear_text")
        );
        let auth = serde_json::json!({"method": "oauth", "token_url": "http://berthing.example/token", "client_id": "tide"});
        assert_eq!(
            of(
                SystemKind::Scim,
                serde_json::json!({"url": "https://berthing.example/scim", "auth": auth})
            ),
            Err("clear_text")
        );
    }
}
