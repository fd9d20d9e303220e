//! The files and environment variables that the service may read: only those named when it was
//! started.

use std::path::PathBuf;
use tide_connect::{ConnectError, Secret};

/// Files and variables that the service may read.
#[derive(Debug, Clone, Default)]
pub struct SecretSources {
    /// Folders that feeds may be read from.
    pub feed_folders: Vec<PathBuf>,
    /// Folders that secrets may be read from (`file:PATH`), and the hosts that these secrets are
    /// for.
    pub secret_folders: Vec<ForHosts>,
    /// Environment variables that may be secrets (`env:NAME`), and the hosts that each is for.
    pub secret_variables: Vec<ForHosts>,
}

/// A folder or a variable with secrets, and the only hosts that they are sent to. As text:
/// `NAME=HOST,HOST`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ForHosts {
    /// The folder or the variable.
    pub name: String,
    /// The hosts, in lower case.
    pub hosts: Vec<String>,
}

impl std::str::FromStr for ForHosts {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let missing =
            || format!("`{text}` names no host for the secret: write NAME=HOST, or NAME=HOST,HOST");
        let (name, hosts) = text.split_once('=').ok_or_else(missing)?;
        let hosts: Vec<String> = hosts
            .split(',')
            .map(|host| host.trim().to_lowercase())
            .filter(|host| !host.is_empty())
            .collect();
        if name.is_empty() || hosts.is_empty() {
            return Err(missing());
        }
        Ok(ForHosts {
            name: name.to_owned(),
            hosts,
        })
    }
}

impl ForHosts {
    /// Refuses to send a secret to a host that it is not meant for.
    fn check(&self, hosts: &[String]) -> Result<(), ConnectError> {
        match hosts.iter().find(|host| {
            !self
                .hosts
                .iter()
                .any(|allowed| allowed.eq_ignore_ascii_case(host))
        }) {
            None => Ok(()),
            Some(host) => Err(ConnectError::permanent(
                "secret_host",
                format!(
                    "the secret of {} is for {}, and would go to {host}",
                    self.name,
                    self.hosts.join(", ")
                ),
                "use the secret of that host; or start the service with that host named for it",
            )),
        }
    }
}

impl SecretSources {
    /// Resolves a secret that is given as text or as its location (`env:NAME`, `file:PATH`).
    /// Neither the secret nor the content of a file is logged.
    pub(crate) fn resolve_secret(
        &self,
        text: &str,
        hosts: &[String],
    ) -> Result<Secret, ConnectError> {
        let refused =
            |code, said: String, remedy: &str| Err(ConnectError::permanent(code, said, remedy));
        if let Some(name) = text.strip_prefix("env:") {
            let Some(allowed) = self
                .secret_variables
                .iter()
                .find(|allowed| allowed.name == name)
            else {
                return refused(
                    "secret_variable",
                    format!("the variable {name} may not be used as a secret"),
                    "start the service with --secret-variable NAME=HOST",
                );
            };
            allowed.check(hosts)?;
            return match std::env::var(name) {
                Ok(value) if !value.is_empty() => Ok(Secret::new(value)),
                _ => refused(
                    "secret_missing",
                    format!("the variable {name} is not set"),
                    "set it for the service, and start it again",
                ),
            };
        }
        let Some(path) = text.strip_prefix("file:") else {
            return Ok(Secret::new(text));
        };
        // The error does not reveal whether a file outside exists.
        let real = std::fs::canonicalize(path).ok();
        let absent = std::path::Path::new(path)
            .parent()
            .and_then(|folder| std::fs::canonicalize(folder).ok());
        let holds = |folder: &&ForHosts| {
            let folder = std::fs::canonicalize(&folder.name).ok();
            let place = real.as_ref().or(absent.as_ref());
            folder
                .zip(place)
                .is_some_and(|(folder, place)| place.starts_with(folder))
        };
        let Some(allowed) = self.secret_folders.iter().find(holds) else {
            return refused(
                "secret_file",
                format!("{path} lies outside the folders that secrets may be read from"),
                "start the service with --secret-folder DIR=HOST",
            );
        };
        allowed.check(hosts)?;
        let Some(real) = real else {
            return refused(
                "secret_missing",
                format!("the secret's file {path} cannot be found"),
                "check the path",
            );
        };
        match std::fs::read_to_string(&real) {
            Ok(text) if text.trim().is_empty() => refused(
                "secret_missing",
                format!("the secret's file {path} is empty"),
                "write the secret into it",
            ),
            // A line feed at the end is the editor's, not the secret's.
            Ok(text) => Ok(Secret::new(text.trim_end_matches(['\n', '\r']))),
            Err(error) => refused(
                "secret_missing",
                format!("the secret's file {path} cannot be read: {error}"),
                "let the service read it",
            ),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn secrets_come_only_from_where_they_may() {
        let folder = tempfile::tempdir().expect("a folder");
        std::fs::write(folder.path().join("harbour"), "deep-secret\n").expect("written");
        let outside = tempfile::tempdir().expect("another");
        std::fs::write(outside.path().join("x"), "other").expect("written");
        std::os::unix::fs::symlink(outside.path().join("x"), folder.path().join("link"))
            .expect("linked");
        let secret_folders = vec![
            format!("{}=harbour.example", folder.path().display())
                .parse()
                .expect("sound"),
        ];
        let secret_variables = vec![
            "PATH=harbour.example, spare.example"
                .parse()
                .expect("sound"),
        ];
        let allowed = SecretSources {
            secret_folders,
            secret_variables,
            ..SecretSources::default()
        };
        let for_host = |text: &str, host: &str| {
            allowed
                .resolve_secret(text, &[host.to_owned()])
                .map(|_| ())
                .map_err(|error| error.code)
        };
        let of = |text: &str| for_host(text, "Harbour.example");
        let file = |name: &str| format!("file:{}", folder.path().join(name).display());
        assert_eq!(of("plain"), Ok(()));
        assert_eq!(of(&file("harbour")), Ok(()));
        assert_eq!(of("env:PATH"), Ok(()));
        assert_eq!(of("env:HOME"), Err("secret_variable"));
        assert_eq!(of("file:/etc/hostname"), Err("secret_file"));
        assert_eq!(
            of(&file("link")),
            Err("secret_file"),
            "a link out of the folder is no way out"
        );
        assert_eq!(of(&file("missing")), Err("secret_missing"));
        assert!(of(&file("../../etc/hostname")).is_err());
        assert_eq!(
            of("file:/nowhere/at/all"),
            Err("secret_file"),
            "what is outside is not told"
        );
        // Only the named hosts get them.
        assert_eq!(for_host("env:PATH", "spare.example"), Ok(()));
        assert_eq!(
            for_host("env:PATH", "harbour.example.evil.example"),
            Err("secret_host")
        );
        assert_eq!(
            for_host(&file("harbour"), "spare.example"),
            Err("secret_host")
        );
        assert!("PATH".parse::<ForHosts>().is_err() && "PATH=".parse::<ForHosts>().is_err());
    }
}
