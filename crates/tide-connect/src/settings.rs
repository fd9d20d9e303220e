//! Where a system is and how it is reached. Secrets stand elsewhere.

use crate::ConnectError;
use serde::{Deserialize, Serialize};
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

/// A directory over LDAP.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LdapSettings {
    /// `ldap://host:port` or `ldaps://host:port`.
    pub url: String,
    /// Ask for TLS on a plain connection (RFC 4511 §4.14).
    #[serde(default)]
    pub start_tls: bool,
    /// The service account; none binds without a name.
    #[serde(default)]
    pub bind_dn: Option<String>,
    /// Below which entry is read.
    pub base_dn: String,
    /// The certificate authority to trust instead of the machine's, as PEM.
    #[serde(default)]
    pub ca_pem: Option<String>,
    /// Entries of one page (RFC 2696).
    #[serde(default = "page_size")]
    pub page_size: u16,
    /// How long one answer may take, in seconds.
    #[serde(default = "timeout")]
    pub timeout_seconds: u16,
}

/// A SCIM 2.0 service.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ScimSettings {
    /// The base URL, such as `https://host/scim/v2`.
    pub url: String,
    /// The certificate authority to trust instead of the machine's, as PEM.
    #[serde(default)]
    pub ca_pem: Option<String>,
    /// Resources of one page.
    #[serde(default = "scim_page")]
    pub page_size: u16,
    /// How long one answer may take, in seconds.
    #[serde(default = "timeout")]
    pub timeout_seconds: u16,
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

/// The settings of a system, by its kind.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Settings {
    /// A directory.
    Ldap(LdapSettings),
    /// A SCIM service.
    Scim(ScimSettings),
}

impl Settings {
    /// Reads the settings of a kind.
    pub fn read(kind: &str, settings: &serde_json::Value) -> Result<Settings, ConnectError> {
        let wrong = |error: serde_json::Error| {
            ConnectError::lasting("settings", format!("the settings cannot be used: {error}"), "correct them and try again")
        };
        match kind {
            "ldap" => LdapSettings::deserialize(settings).map(Settings::Ldap).map_err(wrong),
            "scim" => ScimSettings::deserialize(settings).map(Settings::Scim).map_err(wrong),
            other => Err(ConnectError::lasting("kind", format!("there is no kind of system `{other}`"), "choose ldap or scim")),
        }
    }

    /// The field that holds the system's secret.
    pub fn secret_field(&self) -> &'static str {
        match self {
            Settings::Ldap(_) => "password",
            Settings::Scim(_) => "token",
        }
    }
}
