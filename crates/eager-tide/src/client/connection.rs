//! The connection of a system, as options.

use super::codes::code_parser;
use anyhow::{Context, bail};
use clap::Args;
use std::io::{IsTerminal, Read};
use std::path::{Path, PathBuf};
use tide_api::{NewSystem, Scope, ScopeContainer, ScopeGroup};
use tide_core::states::{SystemKind, SystemRole};

/// The connection of a system.
#[derive(Args)]
pub struct Connection {
    /// Its name: lower-case letters, digits, hyphens
    pub name: String,
    /// Its kind: ldap, a directory; scim, a SCIM 2.0 service; feed, a CSV or JSON Lines file; push,
    /// a system that pushes to us
    #[arg(long, value_parser = code_parser(SystemKind::ALL))]
    kind: SystemKind,
    /// Its address: ldap://host:389, ldaps://host, https://host/scim/v2, https://host/roster.csv
    #[arg(long = "address", value_name = "URL")]
    address: Option<String>,
    /// A private certificate authority, as a PEM file
    #[arg(long, value_name = "FILE")]
    ca: Option<PathBuf>,
    /// The SHA-256 of the one certificate to trust, in hexadecimal
    #[arg(long, value_name = "HEX")]
    pin: Option<String>,
    /// Environment variable on this machine with the password or token; default: standard input
    #[arg(long, value_name = "NAME")]
    secret_env: Option<String>,
    /// Where the service itself finds the secret: env:NAME or file:PATH
    #[arg(long, value_name = "LOCATION", conflicts_with = "secret_env")]
    secret_at: Option<String>,
    /// LDAP: backup server, used if the first fails; can be repeated
    #[arg(long, value_name = "URL", help_heading = "LDAP")]
    backup: Vec<String>,
    /// Use StartTLS
    #[arg(long, help_heading = "LDAP")]
    start_tls: bool,
    /// The service account: a DN, name@domain or domain\name
    #[arg(long, help_heading = "LDAP")]
    bind_dn: Option<String>,
    /// Base DN of all reads
    #[arg(long, help_heading = "LDAP")]
    base_dn: Option<String>,
    /// Client certificate, as a PEM file; its key is then the secret (SASL EXTERNAL)
    #[arg(long, value_name = "FILE", help_heading = "LDAP")]
    client_cert: Option<PathBuf>,
    /// Detect password changes, so that hashes can be copied to another directory; the service
    /// account must be able to read them
    #[arg(long, help_heading = "LDAP")]
    mark_passwords: bool,
    /// A host to which referrals are followed, with the same service account
    #[arg(long, value_name = "HOST", help_heading = "LDAP")]
    referral_host: Vec<String>,
    /// Object class of people, instead of the defaults; can be repeated
    #[arg(long, value_name = "CLASS", help_heading = "LDAP")]
    person_class: Vec<String>,
    /// Object class of groups, instead of the defaults
    #[arg(long, value_name = "CLASS", help_heading = "LDAP")]
    group_class: Vec<String>,
    /// The user, for HTTP basic
    #[arg(long, help_heading = "SCIM")]
    user: Option<String>,
    /// The header that carries the secret
    #[arg(long, value_name = "NAME", help_heading = "SCIM")]
    header: Option<String>,
    /// OAuth 2 token endpoint (client credentials)
    #[arg(
        long,
        value_name = "URL",
        requires = "client_id",
        help_heading = "SCIM"
    )]
    token_url: Option<String>,
    /// OAuth 2 client id
    #[arg(long, help_heading = "SCIM")]
    client_id: Option<String>,
    /// OAuth 2 scope
    #[arg(long, help_heading = "SCIM")]
    token_scope: Option<String>,
    /// Maximum requests per second
    #[arg(long, value_name = "N", help_heading = "SCIM")]
    per_second: Option<u16>,
    /// Maximum requests in flight
    #[arg(long, value_name = "N", help_heading = "SCIM")]
    in_flight: Option<u16>,
    /// Seconds until the service shows what was created in it (default 60)
    #[arg(long, value_name = "SECONDS", help_heading = "SCIM")]
    visible_after: Option<u16>,
    /// Refuse a full read with more than this many percent fewer accounts than before (default 20)
    #[arg(long, value_name = "PERCENT")]
    max_shrink: Option<u8>,
    /// The file, or the folder whose newest file counts, on the service's machine
    #[arg(long, help_heading = "Feed")]
    path: Option<PathBuf>,
    /// Key column: unique, and never changes
    #[arg(long, help_heading = "Feed")]
    key: Option<String>,
    /// Column with the display name
    #[arg(long, help_heading = "Feed")]
    label: Option<String>,
    /// Its role; a first rule file is written for it
    #[arg(long = "as", value_parser = code_parser(SystemRole::ALL), value_name = "ROLE", help_heading = "Rules")]
    pub purpose: Option<SystemRole>,
    /// Container of people; can be repeated
    #[arg(long, value_name = "DN", help_heading = "Rules")]
    within: Vec<String>,
    /// Container to exclude
    #[arg(long, value_name = "DN", help_heading = "Rules")]
    except: Vec<String>,
    /// Group whose members are in scope
    #[arg(long, value_name = "NAME", help_heading = "Rules")]
    group: Vec<String>,
    /// An LDAP or SCIM filter
    #[arg(long, help_heading = "Rules")]
    filter: Option<String>,
    /// Test only; store nothing
    #[arg(long)]
    pub dry_run: bool,
}

/// Reads a secret from the standard input.
pub fn secret_from_input() -> anyhow::Result<String> {
    match read()? {
        Some(text) => Ok(text),
        None => {
            bail!("no secret on standard input: `printf %s \"$SECRET\" | eager-tide systems …`")
        }
    }
}

fn piped() -> anyhow::Result<Option<String>> {
    if std::io::stdin().is_terminal() {
        Ok(None)
    } else {
        read()
    }
}

fn read() -> anyhow::Result<Option<String>> {
    let mut text = String::new();
    std::io::stdin()
        .lock()
        .take(64 * 1024)
        .read_to_string(&mut text)?;
    let text = text.trim_end_matches(['\r', '\n']);
    Ok((!text.is_empty()).then(|| text.to_owned()))
}

/// The text of a file.
pub fn file(path: &Path) -> anyhow::Result<String> {
    std::fs::read_to_string(path).with_context(|| format!("{} cannot be read", path.display()))
}

impl Connection {
    /// The system to add, with its secret.
    pub fn system(&self) -> anyhow::Result<NewSystem> {
        let mut settings = serde_json::Map::new();
        let mut set = |key: &str, value: serde_json::Value| {
            let nothing = value.is_null() || value.as_array().is_some_and(Vec::is_empty);
            if !nothing {
                settings.insert(key.to_owned(), value);
            }
        };
        set("url", self.address.clone().into());
        set(
            "ca_pem",
            self.ca.as_ref().map(|path| file(path)).transpose()?.into(),
        );
        set("pin_sha256", self.pin.clone().into());
        if self.kind != SystemKind::Push {
            set("max_shrink_percent", self.max_shrink.into());
        }
        let needs_address = matches!(self.kind, SystemKind::Ldap | SystemKind::Scim);
        if needs_address && self.address.is_none() {
            bail!(
                "--address is missing, for example ldaps://harbour.skerry.example or https://berthing.skerry.example/scim/v2"
            );
        }
        match self.kind {
            SystemKind::Ldap => {
                self.ldap_settings(&mut set)?;
            }
            SystemKind::Scim => {
                self.scim_settings(&mut set);
            }
            SystemKind::Feed => {
                set(
                    "path",
                    self.path
                        .as_ref()
                        .map(|path| path.display().to_string())
                        .into(),
                );
                set(
                    "key",
                    self.key
                        .clone()
                        .context("a feed needs --key, the column that identifies rows; `eager-tide feeds inspect FILE` finds it")?
                        .into(),
                );
                set("name", self.label.clone().into());
            }
            SystemKind::Push => {}
        }
        let secret = self.secret()?;
        Ok(NewSystem {
            name: self.name.clone(),
            kind: self.kind,
            settings: settings.into(),
            secret,
            first: None,
        })
    }

    /// Adds the settings of a directory.
    fn ldap_settings(&self, set: &mut impl FnMut(&str, serde_json::Value)) -> anyhow::Result<()> {
        set(
            "base_dn",
            self.base_dn
                .clone()
                .context("a directory needs --base-dn, for example dc=skerry,dc=example")?
                .into(),
        );
        set("start_tls", self.start_tls.into());
        set("bind_dn", self.bind_dn.clone().into());
        set("backups", self.backup.clone().into());
        set("referral_hosts", self.referral_host.clone().into());
        set("person_classes", self.person_class.clone().into());
        set("group_classes", self.group_class.clone().into());
        if self.mark_passwords {
            set("mark_passwords", true.into());
        }
        if let Some(certificate) = &self.client_cert {
            set("client_pem", file(certificate)?.into());
            set("auth", "external".into());
        }
        Ok(())
    }

    /// Adds the settings of a SCIM service.
    fn scim_settings(&self, set: &mut impl FnMut(&str, serde_json::Value)) {
        set("per_second", self.per_second.into());
        set("in_flight", self.in_flight.into());
        set("visible_after_seconds", self.visible_after.into());
        let auth = match (&self.user, &self.header, &self.token_url) {
            (Some(user), ..) => serde_json::json!({"method": "basic", "user": user}),
            (_, Some(name), _) => serde_json::json!({"method": "header", "name": name}),
            (_, _, Some(url)) => {
                serde_json::json!({"method": "oauth", "token_url": url, "client_id": self.client_id, "scope": self.token_scope})
            }
            _ => serde_json::json!({"method": "bearer"}),
        };
        set("auth", auth);
    }

    /// The secret that the system is reached with: from the environment, by its location, or from the
    /// input.
    fn secret(&self) -> anyhow::Result<Option<String>> {
        let anonymous = match self.kind {
            SystemKind::Ldap => self.bind_dn.is_none() && self.client_cert.is_none(),
            SystemKind::Feed | SystemKind::Push => true,
            SystemKind::Scim => false,
        };
        let secret = match (&self.secret_env, &self.secret_at) {
            (Some(name), _) => Some(
                std::env::var(name)
                    .with_context(|| format!("the environment variable {name} is not set"))?,
            ),
            (_, Some(place)) if place.starts_with("env:") || place.starts_with("file:") => {
                Some(place.clone())
            }
            (_, Some(place)) => {
                bail!("`{place}` is not the location of a secret: use env:NAME or file:PATH")
            }
            // Files often need no token: one is read only if it was piped in.
            _ if self.kind == SystemKind::Feed && self.address.is_some() => piped()?,
            _ if anonymous => None,
            _ => Some(secret_from_input()?),
        };
        Ok(secret)
    }

    /// The scope of its first rules.
    pub fn scope(&self) -> Scope {
        let containers = |all: &[String]| {
            all.iter()
                .map(|dn| ScopeContainer {
                    dn: dn.clone(),
                    one_level: false,
                })
                .collect()
        };
        Scope {
            within: containers(&self.within),
            except: containers(&self.except),
            groups: self
                .group
                .iter()
                .map(|name| ScopeGroup {
                    name: name.clone(),
                    system: None,
                    nested: true,
                })
                .collect(),
            filter: self.filter.clone(),
            ..Scope::default()
        }
    }
}
