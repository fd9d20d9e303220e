//! Where a system is and how it is reached. Secrets stand elsewhere.

use crate::ConnectError;
use serde::{Deserialize, Deserializer, Serialize};
use zeroize::Zeroizing;

/// A secret, wiped when it is dropped and never shown.
#[derive(Clone)]
pub struct Secret(Zeroizing<String>);

impl Secret {
    /// Takes a secret in.
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
    /// A name and a password; without a name, nobody (RFC 4513 §5.1).
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
    #[serde(default, deserialize_with = "list")]
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
    /// Hosts (`host` or `host:port`) to which referrals are followed, with the same service account.
    /// None is the default: a referral is then told and not followed.
    #[serde(default, deserialize_with = "list")]
    pub referral_hosts: Vec<String>,
    /// The object classes that make an entry a person; none named means `person` and `inetOrgPerson`, without computers.
    #[serde(default, deserialize_with = "list")]
    pub person_classes: Vec<String>,
    /// The object classes of service accounts; none named means `account` and `simpleSecurityObject`.
    #[serde(default, deserialize_with = "list")]
    pub service_classes: Vec<String>,
    /// The object classes of groups; none named means `groupOfNames`, `groupOfUniqueNames`, `group` and `posixGroup`.
    #[serde(default, deserialize_with = "list")]
    pub group_classes: Vec<String>,
    /// Notice when a password changes, by a mark of its hash: so that the hash can be carried to another directory.
    #[serde(default)]
    pub mark_passwords: bool,
    /// A reading that shows fewer entries than the last one by more than this many percent is refused whole.
    #[serde(default = "shrink")]
    pub most_shrink_percent: u8,
}

/// A list of texts, also as one text with commas: so a person types it.
fn list<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Vec<String>, D::Error> {
    #[derive(Deserialize)]
    #[serde(untagged, expecting = "a list of texts, or one text with commas between them")]
    enum List {
        One(String),
        Many(Vec<String>),
    }
    Ok(match List::deserialize(deserializer)? {
        List::Many(all) => all,
        List::One(text) => text.split(',').map(str::trim).filter(|one| !one.is_empty()).map(str::to_owned).collect(),
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
            referral_hosts: Vec::new(),
            person_classes: Vec::new(),
            service_classes: Vec::new(),
            group_classes: Vec::new(),
            mark_passwords: false,
            most_shrink_percent: shrink(),
        }
    }
}

/// How we make ourselves known to a SCIM service.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "way", rename_all = "snake_case", deny_unknown_fields)]
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
        /// Where tokens are given out.
        token_url: String,
        /// The client.
        client_id: String,
        /// What is asked for.
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
    /// How many seconds the service may take to show what was made in it. After a lost answer nothing is made again before.
    #[serde(default = "visible_after")]
    pub visible_after_seconds: u16,
    /// A reading that shows fewer resources than the last one by more than this many percent is refused whole.
    #[serde(default = "shrink")]
    pub most_shrink_percent: u8,
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
            most_shrink_percent: shrink(),
        }
    }
}

/// How a feed's file is written.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum FeedFormat {
    /// Found out from the file.
    #[default]
    Auto,
    /// Comma-separated values, with whatever delimiter (RFC 4180).
    Csv,
    /// One JSON object in each line.
    JsonLines,
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
    /// The column that tells rows apart and never changes.
    pub key: String,
    /// The column that people know a row by; the key, if none is named.
    #[serde(default)]
    pub name: Option<String>,
    /// How the file is written.
    #[serde(default)]
    pub format: FeedFormat,
    /// The delimiter of a CSV file; found out, if none is given.
    #[serde(default)]
    pub delimiter: Option<char>,
    /// A reading that shows fewer rows than the last complete one, by more than this share in percent,
    /// is refused whole.
    #[serde(default = "shrink")]
    pub most_shrink_percent: u8,
    /// The certificate authority to trust instead of the machine's, as PEM, for a pull.
    #[serde(default)]
    pub ca_pem: Option<String>,
    /// How long one answer of a pull may take, in seconds.
    #[serde(default = "timeout")]
    pub timeout_seconds: u16,
}

/// A system that calls us.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PushSettings {}

fn return_after() -> u32 {
    60
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
            said = said.replace(&format!("expected {kind}"), &format!("expected a whole number from 0 to {most}"));
        }
        let setting = Some(error.path().to_string()).filter(|path| path != ".").map_or_else(String::new, |path| format!("`{path}`: "));
        ConnectError::lasting("settings", format!("the settings cannot be used: {setting}{said}"), "correct them and try again")
    })
}

impl Settings {
    /// Reads the settings of a kind.
    pub fn read(kind: &str, settings: &serde_json::Value) -> Result<Settings, ConnectError> {
        match kind {
            "ldap" => parse(settings).map(Settings::Ldap),
            "scim" => parse(settings).map(Settings::Scim),
            "feed" => parse(settings).map(Settings::Feed),
            "push" => parse(settings).map(Settings::Push),
            other => Err(ConnectError::lasting("kind", format!("there is no kind of system `{other}`"), "choose ldap, scim, feed or push")),
        }
    }

    /// How many percent fewer accounts a full reading may show than are known; a feed looks at its rows itself.
    pub fn most_shrink_percent(&self) -> Option<u8> {
        match self {
            Settings::Ldap(settings) => Some(settings.most_shrink_percent),
            Settings::Scim(settings) => Some(settings.most_shrink_percent),
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

    /// The host that a secret is sent to: when it changes, the secret must be given again.
    pub fn hosts(&self) -> Vec<String> {
        let host = |url: &str| {
            let rest = url.split_once("://").map_or(url, |(_, rest)| rest);
            rest.split(['/', '?', '#']).next().unwrap_or_default().to_lowercase()
        };
        match self {
            Settings::Ldap(settings) => {
                let referrals = settings.referral_hosts.iter().map(|h| host(h));
                std::iter::once(&settings.url).chain(&settings.backups).map(|url| host(url)).chain(referrals).collect()
            }
            Settings::Scim(settings) => {
                let tokens = match &settings.auth {
                    ScimAuth::Oauth { token_url, .. } => Some(host(token_url)),
                    _ => None,
                };
                std::iter::once(host(&settings.url)).chain(tokens).collect()
            }
            Settings::Feed(settings) => settings.url.iter().map(|url| host(url)).collect(),
            Settings::Push(_) => Vec::new(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_setting_that_cannot_be_used_is_named() {
        let said = |value: serde_json::Value| Settings::read("scim", &value).expect_err("refused").said;
        assert_eq!(
            said(serde_json::json!({"url": "https://berthing.example", "page_size": 70000})),
            "the settings cannot be used: `page_size`: invalid value: integer `70000`, expected a whole number from 0 to 65535"
        );
        assert_eq!(said(serde_json::json!({})), "the settings cannot be used: missing field `url`");
    }
}
