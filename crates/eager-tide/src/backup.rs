//! `eager-tide backup` and `eager-tide restore`: they work on the data folder itself, and call no
//! service.

use crate::serve;
use anyhow::{Context, bail, ensure};
use clap::Args;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use tide_store::MasterKey;

/// Options of `backup`.
#[derive(Args)]
pub struct Backup {
    /// The file to write; an existing file is never overwritten
    file: PathBuf,
    /// The data folder; the service may run meanwhile
    #[arg(long, default_value = "eager-tide-data", env = "EAGER_TIDE_DATA")]
    data: PathBuf,
}

/// Options of `restore`.
#[derive(Args)]
pub struct Restore {
    /// The backup
    file: PathBuf,
    /// The data folder; its service must be stopped
    #[arg(long, default_value = "eager-tide-data", env = "EAGER_TIDE_DATA")]
    data: PathBuf,
}

fn records(data: &Path) -> PathBuf {
    data.join("tide.db")
}

impl Backup {
    /// Copies the records.
    pub async fn run(self) -> anyhow::Result<ExitCode> {
        let from = records(&self.data);
        ensure!(
            from.is_file(),
            "there are no records in {}: name the service's data folder with --data",
            self.data.display()
        );
        ensure!(
            !self.file.exists(),
            "{} is there already: name a file that is not",
            self.file.display()
        );
        // Created first, so that no other user can read what is written to it.
        serve::private(&self.file, "")
            .with_context(|| format!("{} cannot be written", self.file.display()))?;
        std::fs::write(&self.file, "")
            .with_context(|| format!("{} cannot be written", self.file.display()))?;
        tide_store::backup(&from, &self.file).await?;
        let size = std::fs::metadata(&self.file)
            .map(|file| file.len())
            .unwrap_or_default();
        crate::client::output::line(&format!(
            "{} holds the records of {} ({} KiB); the key that opens its secrets is not in it: keep {} elsewhere",
            self.file.display(),
            self.data.display(),
            size / 1024,
            self.data.join("key").display()
        ));
        Ok(ExitCode::SUCCESS)
    }
}

impl Restore {
    /// Puts a backup in the place of the records.
    pub async fn run(self) -> anyhow::Result<ExitCode> {
        ensure!(
            self.file.is_file(),
            "there is no backup {}",
            self.file.display()
        );
        serve::private_folder(&self.data)
            .with_context(|| format!("the data folder {} cannot be made", self.data.display()))?;
        let _lock = serve::alone(&self.data)?;
        let key = MasterKey::from_environment_or_file(&self.data.join("key"))?;
        let now = tide_clock::now();
        let new = self.data.join("tide.restored.db");
        let fresh = |path: &Path| {
            for end in ["", "-wal", "-shm"] {
                // What is not there need not be removed.
                let _ = std::fs::remove_file(format!("{}{end}", path.display()));
            }
        };
        fresh(&new);
        serve::private(&new, "")
            .and_then(|()| std::fs::copy(&self.file, &new))
            .with_context(|| format!("{} cannot be written", new.display()))?;
        let token = tide_engine::new_token();
        let operator = match tide_store::restore(&new, key, &token, now).await {
            Ok(operator) => operator,
            Err(error) => {
                fresh(&new);
                bail!(
                    "{} is no backup that can be restored: {error}",
                    self.file.display()
                );
            }
        };
        let old = records(&self.data);
        let stamp = now.strftime("%Y%m%dT%H%M%SZ").to_string();
        let aside = self.data.join(format!("tide.before-restore-{stamp}.db"));
        for end in ["", "-wal"] {
            let from = PathBuf::from(format!("{}{end}", old.display()));
            if from.exists() {
                std::fs::rename(&from, format!("{}{end}", aside.display()))
                    .with_context(|| format!("{} cannot be moved", from.display()))?;
            }
        }
        fresh(&old);
        for end in ["", "-wal"] {
            let from = PathBuf::from(format!("{}{end}", new.display()));
            if from.exists() {
                std::fs::rename(&from, format!("{}{end}", old.display()))
                    .with_context(|| format!("{} cannot be moved", from.display()))?;
            }
        }
        fresh(&new);
        let line = crate::client::output::line;
        line(&format!(
            "{} is in place; what was there before is {}",
            self.file.display(),
            aside.display()
        ));
        line(&format!(
            "all sessions and tokens have ended; the operator `{operator}` has this one, which is shown this once:"
        ));
        line(&token);
        line(
            "it gives each operator and each system that calls us a new one: `operators token NAME`, `systems token NAME`",
        );
        line("every system is disarmed, and nothing is sent before everything was read again:");
        line("  eager-tide serve · eager-tide preview · eager-tide systems arm NAME");
        Ok(ExitCode::SUCCESS)
    }
}
