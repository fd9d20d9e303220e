//! What of its own machine the service may reach: only what was named when it was started.

use std::path::PathBuf;
use tide_connect::{ConnectError, Secret};

/// Files and variables that the service may read.
#[derive(Debug, Clone, Default)]
pub struct Allowed {
    /// Folders that feeds may be read from.
    pub feed_folders: Vec<PathBuf>,
    /// Folders that secrets may be read from (`file:PATH`).
    pub secret_folders: Vec<PathBuf>,
    /// Environment variables that may be secrets (`env:NAME`).
    pub secret_variables: Vec<String>,
}

impl Allowed {
    /// The secret that a text is, or where it stands: `env:NAME`, `file:PATH`. Neither the secret nor
    /// what a file holds ever stands in an error.
    pub(crate) fn secret(&self, text: &str) -> Result<Secret, ConnectError> {
        let refused = |code, said: String, remedy: &str| Err(ConnectError::lasting(code, said, remedy));
        if let Some(name) = text.strip_prefix("env:") {
            if !self.secret_variables.iter().any(|allowed| allowed == name) {
                return refused(
                    "secret_variable",
                    format!("the variable {name} may not be used as a secret"),
                    "start the service with --secret-variable NAME",
                );
            }
            return match std::env::var(name) {
                Ok(value) if !value.is_empty() => Ok(Secret::new(value)),
                _ => refused("secret_missing", format!("the variable {name} is not set"), "set it for the service, and start it again"),
            };
        }
        let Some(path) = text.strip_prefix("file:") else { return Ok(Secret::new(text)) };
        let real = match std::fs::canonicalize(path) {
            Ok(real) => real,
            Err(error) => return refused("secret_missing", format!("the secret's file {path} cannot be found: {error}"), "check the path"),
        };
        let inside = self.secret_folders.iter().filter_map(|folder| folder.canonicalize().ok()).any(|folder| real.starts_with(folder));
        if !inside {
            return refused(
                "secret_file",
                format!("{path} lies outside the folders that secrets may be read from"),
                "start the service with --secret-folder DIR",
            );
        }
        match std::fs::read_to_string(&real) {
            Ok(text) if text.trim().is_empty() => {
                refused("secret_missing", format!("the secret's file {path} is empty"), "write the secret into it")
            }
            // A line feed at the end is the editor's, not the secret's.
            Ok(text) => Ok(Secret::new(text.trim_end_matches(['\n', '\r']))),
            Err(error) => refused("secret_missing", format!("the secret's file {path} cannot be read: {error}"), "let the service read it"),
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
        std::os::unix::fs::symlink(outside.path().join("x"), folder.path().join("link")).expect("linked");
        let allowed = Allowed { secret_folders: vec![folder.path().into()], secret_variables: vec!["PATH".into()], ..Allowed::default() };
        let of = |text: &str| allowed.secret(text).map(|_| ()).map_err(|error| error.code);
        let file = |name: &str| format!("file:{}", folder.path().join(name).display());
        assert_eq!(of("plain"), Ok(()));
        assert_eq!(of(&file("harbour")), Ok(()));
        assert_eq!(of("env:PATH"), Ok(()));
        assert_eq!(of("env:HOME"), Err("secret_variable"));
        assert_eq!(of("file:/etc/hostname"), Err("secret_file"));
        assert_eq!(of(&file("link")), Err("secret_file"), "a link out of the folder is no way out");
        assert_eq!(of(&file("missing")), Err("secret_missing"));
        assert!(of(&file("../../etc/hostname")).is_err());
    }
}
