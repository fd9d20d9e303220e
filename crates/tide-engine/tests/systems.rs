//! Connecting systems through the engine: feeds that are watched and remembered, secrets from
//! files, addresses that change, first rule files, scopes that are tried before they are saved.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

#[allow(dead_code)] // Each test uses a part of it.
mod common;

use common::{PASSWORD, Tide};
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;
use tide_core::rules::edit::{ContainerEdit, GroupEdit, ScopeEdit};
use tide_core::states::{ScopeStatus, SystemKind, SystemRole};
use tide_core::{ObjectType, ReasonCode};
use tide_engine::{
    Engine, EngineError, NewSystem, ScopeView, SecretSources, SystemClock, SystemUpdate,
};
use tide_standins::eventually;
use tide_standins::world::BASE;
use tide_store::{MasterKey, OutcomeFilter, Store};

async fn engine(folder: &Path) -> Arc<Engine> {
    let store = Store::open(&folder.join("tide.db"), MasterKey::generate())
        .await
        .expect("opens");
    let allowed = SecretSources {
        feed_folders: vec![folder.into()],
        secret_folders: vec![
            format!("{}=127.0.0.1,127.0.0.9,localhost", folder.display())
                .parse()
                .expect("sound"),
        ],
        ..SecretSources::default()
    };
    Engine::with(store, Arc::new(SystemClock), allowed)
}

async fn feed(engine: &Engine, folder: &Path) {
    let settings =
        serde_json::json!({"path": folder.join("roster.csv"), "key": "number", "name": "name"});
    engine
        .administration()
        .add_system(
            NewSystem {
                name: "roster".into(),
                kind: SystemKind::Feed,
                settings,
                secret: None,
            },
            "tester",
        )
        .await
        .expect("added");
}

fn write(folder: &Path, rows: &[&str]) {
    // Written beside and moved, as a careful sender does.
    std::fs::write(
        folder.join("next"),
        format!("number;name\n{}\n", rows.join("\n")),
    )
    .expect("written");
    std::fs::rename(folder.join("next"), folder.join("roster.csv")).expect("moved");
}

async fn absent(engine: &Engine) -> Vec<String> {
    let accounts = engine
        .store()
        .list_accounts("roster", "", None, 100)
        .await
        .expect("listed");
    accounts
        .into_iter()
        .filter(|row| row.account.absent_since.is_some())
        .map(|row| row.account.key)
        .collect()
}

#[tokio::test]
async fn an_unreadable_row_keeps_the_accounts_that_it_may_be() {
    let folder = tempfile::tempdir().expect("a folder");
    let engine = engine(folder.path()).await;
    feed(&engine, folder.path()).await;
    let all = ["1;Ada", "2;Bram", "3;Chidi", "4;Eiko", "5;Jon", "6;Mette"];
    write(folder.path(), &all);
    assert_eq!(
        engine.ingest().read_by_name("roster").await.expect("read")[0].seen,
        6
    );

    // One is gone, and a new row cannot be told whose it is: it may be hers.
    write(folder.path(), &[&all[1..], &[";Nobody"]].concat());
    let read = &engine.ingest().read_by_name("roster").await.expect("read")[0];
    assert_eq!((read.seen, read.quarantined, read.absent), (5, 1, 0));
    assert!(absent(&engine).await.is_empty());
    let last = &engine.store().last_readings().await.expect("listed")[0];
    assert!(
        last.error
            .as_deref()
            .is_some_and(|error| error.contains("do not count as absent")),
        "{last:?}"
    );
    // However often it is read: the row may still be hers.
    assert_eq!(
        engine.ingest().read_by_name("roster").await.expect("read")[0].absent,
        0
    );
    // Another who goes now was there beside that row: it is not his, and he is absent; she is not.
    write(folder.path(), &[&all[2..], &[";Nobody"]].concat());
    assert_eq!(
        engine.ingest().read_by_name("roster").await.expect("read")[0].absent,
        1
    );
    assert_eq!(absent(&engine).await, ["2"]);
    // The row is gone, and with it the doubt.
    write(folder.path(), &all[2..]);
    assert_eq!(
        engine.ingest().read_by_name("roster").await.expect("read")[0].absent,
        1
    );
    assert_eq!(absent(&engine).await, ["1", "2"]);

    // A row whose key can be read is broken, and its account is not missing; who is back is back.
    write(
        folder.path(),
        &[
            "1;Ada", "2;Bram", "3;Chidi", "3;Doppel", "4;Eiko", "5;Jon", "6;Mette", ";Nobody",
        ],
    );
    let read = &engine.ingest().read_by_name("roster").await.expect("read")[0];
    assert_eq!((read.seen, read.quarantined, read.absent), (5, 3, 0));
    assert!(absent(&engine).await.is_empty());
    let rows = engine
        .store()
        .list_quarantine("roster")
        .await
        .expect("listed");
    assert_eq!(
        rows.iter().map(|row| row.line).collect::<Vec<_>>(),
        [4, 5, 9]
    );

    // A file that shrank too far is refused whole.
    write(folder.path(), &all[..2]);
    let read = &engine.ingest().read_by_name("roster").await.expect("read")[0];
    assert_eq!(
        read.error.as_ref().map(|error| error.code),
        Some("feed_shrunk")
    );
    assert!(absent(&engine).await.is_empty());
    engine.stop().await;
}

/// How long something in the background may take.
const PATIENCE: Duration = Duration::from_secs(30);

/// Waits until the feed watcher has completed this many further polls.
async fn complete_polls(engine: &Engine, polls: u64) {
    let wanted = engine.cycles().feed_polls + polls;
    eventually(PATIENCE, async || {
        (engine.cycles().feed_polls >= wanted).then_some(())
    })
    .await
    .expect("the feed watcher polls");
}

#[tokio::test]
async fn new_files_are_read_automatically_once_the_feed_is_armed() {
    let folder = tempfile::tempdir().expect("a folder");
    let engine = engine(folder.path()).await;
    write(folder.path(), &["1;Ada"]);
    feed(&engine, folder.path()).await;
    engine.ingest().read_by_name("roster").await.expect("read");
    engine.ingest().watch_feeds();
    let held = || async {
        engine
            .store()
            .list_accounts("roster", "", None, 100)
            .await
            .expect("listed")
            .len()
    };
    complete_polls(&engine, 1).await;
    write(folder.path(), &["1;Ada", "2;Bram"]);
    complete_polls(&engine, 3).await;
    assert_eq!(held().await, 1, "not armed: nothing happens by itself");
    engine
        .administration()
        .set_system(
            "roster",
            SystemUpdate {
                armed: Some(true),
                ..SystemUpdate::default()
            },
            "tester",
        )
        .await
        .expect("armed");
    complete_polls(&engine, 1).await;
    write(folder.path(), &["1;Ada", "2;Bram", "3;Chidi"]);
    let read = eventually(PATIENCE, async || (held().await == 3).then_some(())).await;
    assert_eq!(read, Some(()), "{} accounts", held().await);
    engine.stop().await;
}

#[tokio::test]
async fn a_file_that_could_not_be_read_is_tried_again_though_it_stays_the_same() {
    let folder = tempfile::tempdir().expect("a folder");
    let engine = engine(folder.path()).await;
    // The feed's secret cannot be read for a while, and nothing of it can.
    let secret = folder.path().join("feed.secret");
    std::fs::write(&secret, "so").expect("written");
    write(folder.path(), &["1;Ada", "2;Bram"]);
    let settings = serde_json::json!({"path": folder.path().join("roster.csv"), "key": "number"});
    let new = NewSystem {
        name: "roster".into(),
        kind: SystemKind::Feed,
        settings,
        secret: Some(format!("file:{}", secret.display())),
    };
    engine
        .administration()
        .add_system(new, "tester")
        .await
        .expect("added");
    std::fs::remove_file(&secret).expect("removed");
    engine
        .administration()
        .set_system(
            "roster",
            SystemUpdate {
                armed: Some(true),
                ..SystemUpdate::default()
            },
            "tester",
        )
        .await
        .expect("armed");
    engine.ingest().watch_feeds();
    let held = || async {
        engine
            .store()
            .list_accounts("roster", "", None, 100)
            .await
            .expect("listed")
            .len()
    };
    complete_polls(&engine, 3).await;
    assert_eq!(held().await, 0);
    std::fs::write(&secret, "so").expect("written");
    let read = eventually(PATIENCE, async || (held().await == 2).then_some(())).await;
    assert_eq!(read, Some(()), "{} accounts", held().await);
    engine.stop().await;
}

/// A directory whose password is in a file.
struct FileSecret {
    tide: Tide,
    folder: tempfile::TempDir,
    engine: Arc<Engine>,
}

impl FileSecret {
    async fn start() -> FileSecret {
        let tide = Tide::start(10).await;
        let folder = tempfile::tempdir().expect("a folder");
        let engine = engine(folder.path()).await;
        let secret = FileSecret {
            tide,
            folder,
            engine,
        };
        secret.write(&format!("{PASSWORD}\n"));
        let at = format!("file:{}", secret.path().display());
        let new = secret.system("harbour", &at);
        secret
            .engine
            .administration()
            .add_system(new, "tester")
            .await
            .expect("added");
        secret
    }

    fn path(&self) -> std::path::PathBuf {
        self.folder.path().join("harbour.secret")
    }

    fn write(&self, text: &str) {
        std::fs::write(self.path(), text).expect("written");
    }

    fn settings(&self, url: &str) -> serde_json::Value {
        serde_json::json!({"url": url, "bind_dn": self.tide.harbour.admin_dn, "base_dn": BASE})
    }

    fn system(&self, name: &str, secret: &str) -> NewSystem {
        NewSystem {
            name: name.into(),
            kind: SystemKind::Ldap,
            settings: self.settings(&self.tide.harbour.url),
            secret: Some(secret.into()),
        }
    }

    async fn is_healthy(&self) -> bool {
        let checked = self
            .engine
            .administration()
            .check_system("harbour", None)
            .await;
        checked.expect("tested").is_healthy()
    }
}

#[tokio::test]
async fn a_secret_in_a_file_is_read_at_each_connection_and_only_from_its_folder() {
    let secret = FileSecret::start().await;
    assert!(secret.is_healthy().await);
    secret.write("wrong");
    assert!(!secret.is_healthy().await);
    for refused in ["file:/etc/hostname", "env:HOME"] {
        let new = secret.system("other", refused);
        let added = secret
            .engine
            .administration()
            .add_system(new, "tester")
            .await;
        let error = added.expect_err("refused");
        assert!(
            matches!(&error, EngineError::Connect(error) if error.code.starts_with("secret_")),
            "{error}"
        );
    }
    secret.engine.stop().await;
}

/// With the same host, other settings may change; another host gets the secret only when it is given
/// again.
#[tokio::test]
async fn a_secret_from_a_file_is_sent_to_no_other_host() {
    let secret = FileSecret::start().await;
    let engine = &secret.engine;
    let elsewhere = secret.settings("ldap://127.0.0.9:389");
    let same = secret.settings(&secret.tide.harbour.url);
    engine
        .administration()
        .set_settings("harbour", same, None, "tester")
        .await
        .expect("the same host");
    let error = engine
        .administration()
        .set_settings("harbour", elsewhere.clone(), None, "tester")
        .await
        .expect_err("refused");
    assert!(
        error
            .to_string()
            .contains("would be sent elsewhere (ldap://"),
        "{error}"
    );
    engine
        .administration()
        .set_settings("harbour", elsewhere, Some(PASSWORD), "tester")
        .await
        .expect("given again");
    engine
        .administration()
        .remove_system("harbour", false, "tester")
        .await
        .expect("nobody was joined in it");
    let left = engine.store().list_systems().await.expect("listed");
    assert!(left.is_empty());
    engine.stop().await;
}

fn everybody() -> OutcomeFilter {
    OutcomeFilter {
        limit: i64::MAX,
        ..OutcomeFilter::default()
    }
}

/// A directory of 300 people, and the scope of the directory as it works out.
async fn shown_scope() -> (Tide, ScopeView) {
    let tide = Tide::start(300).await;
    tide.engine.ingest().read_all().await.expect("read");
    let view = tide
        .engine
        .views()
        .show_scope("harbour", ObjectType::Person, &everybody(), "")
        .await
        .expect("counted");
    (tide, view)
}

#[tokio::test]
async fn a_scope_is_counted_by_status_and_reason() {
    let (tide, view) = shown_scope().await;
    let engine = &tide.engine;
    let total = |status: ScopeStatus| {
        view.counts
            .iter()
            .filter(|c| c.status == status)
            .map(|c| c.count)
            .sum::<usize>()
    };
    assert_eq!(
        total(ScopeStatus::In) + total(ScopeStatus::Out) + total(ScopeStatus::OnHold),
        view.lines.len()
    );
    let outside = view
        .counts
        .iter()
        .find(|c| c.reason == "address outside our domain")
        .expect("counted");
    assert_eq!(
        view.lines
            .iter()
            .filter(|line| line.reason.code() == outside.code && line.reason.rule == outside.rule)
            .count(),
        outside.count
    );
    engine.stop().await;
}

#[tokio::test]
async fn a_scope_is_tried_and_nothing_is_kept() {
    let (tide, view) = shown_scope().await;
    let engine = &tide.engine;
    // A group is read when an edit first names it; who would leave is known by name and reason.
    let group = format!("cn=deck-watch,ou=groups,{BASE}");
    let edit = ScopeEdit {
        groups: vec![GroupEdit {
            name: group.clone(),
            system: None,
            nested: true,
        }],
        ..view.edit.clone()
    };
    let trial = engine
        .administration()
        .try_scope("harbour", ObjectType::Person, &edit)
        .await
        .expect("tried");
    let ways: Vec<_> = trial.moves.iter().map(|one| (one.from, one.to)).collect();
    assert!(
        ways.iter().all(|(_, to)| *to == ScopeStatus::Out)
            && ways.contains(&(ScopeStatus::In, ScopeStatus::Out)),
        "{ways:?}"
    );
    let leave = || trial.moves.iter().flat_map(|one| &one.lines);
    assert!(leave().count() > 200);
    assert!(
        leave().all(|line| {
            line.reason.code() == ReasonCode::NotInGroup || line.status == ScopeStatus::Out
        }),
        "{:?}",
        leave().next()
    );
    assert_eq!(
        engine
            .views()
            .show_scope("harbour", ObjectType::Person, &everybody(), "")
            .await
            .expect("counted")
            .counts,
        view.counts,
        "nothing was kept"
    );
    // A record that would be on hold is counted as on hold, and not as unchanged.
    let filter = Some("(employeeNumber>=a)".to_owned());
    let trial = engine
        .administration()
        .try_scope(
            "harbour",
            ObjectType::Person,
            &ScopeEdit {
                filter,
                ..view.edit.clone()
            },
        )
        .await
        .expect("tried");
    assert!(
        trial.moves.iter().all(|one| one.from != one.to),
        "{:?}",
        trial.moves
    );
    engine.stop().await;
}

#[tokio::test]
async fn a_scope_with_an_unknown_group_or_a_wrong_filter_is_refused() {
    let (tide, view) = shown_scope().await;
    let engine = &tide.engine;
    // A group that is not there would put everybody on hold: it is refused.
    let missing = ScopeEdit {
        groups: vec![GroupEdit {
            name: "deck-wacht".into(),
            system: None,
            nested: true,
        }],
        ..view.edit.clone()
    };
    for refused in [
        engine
            .administration()
            .try_scope("harbour", ObjectType::Person, &missing)
            .await
            .err(),
        engine
            .administration()
            .save_scope("harbour", ObjectType::Person, &missing, "tester")
            .await
            .err(),
    ] {
        let said = refused.expect("refused").to_string();
        assert!(
            said.contains("harbour has no group `deck-wacht`: did you mean `deck-watch`?"),
            "{said}"
        );
    }
    let wrong = ScopeEdit {
        filter: Some("(mail=".into()),
        ..view.edit.clone()
    };
    assert!(matches!(
        engine
            .administration()
            .try_scope("harbour", ObjectType::Person, &wrong)
            .await,
        Err(EngineError::Rules(_))
    ));
    engine.stop().await;
}

#[tokio::test]
async fn a_saved_scope_is_a_new_version_of_its_file() {
    let (tide, view) = shown_scope().await;
    let engine = &tide.engine;
    // Kiosks would enter when their container is no longer left out; saved, they are counted.
    let edit = ScopeEdit {
        except: Vec::new(),
        conditions: Vec::new(),
        ..view.edit.clone()
    };
    let trial = engine
        .administration()
        .try_scope("harbour", ObjectType::Person, &edit)
        .await
        .expect("tried");
    let enter = trial
        .moves
        .iter()
        .filter(|one| one.from == ScopeStatus::Out)
        .flat_map(|one| &one.lines);
    assert!(
        enter.clone().any(|line| line
            .account
            .as_deref()
            .is_some_and(|a| a.contains("kiosk1"))),
        "{:?}",
        trial.moves
    );
    let version = engine
        .administration()
        .save_scope("harbour", ObjectType::Person, &edit, "tester")
        .await
        .expect("saved");
    assert_eq!(version, 2);
    let text = engine
        .store()
        .load_rules()
        .await
        .expect("read")
        .expect("there")
        .files
        .into_iter()
        .find(|f| f.name == "harbour.toml")
        .expect("there")
        .text;
    assert!(
        text.contains("# The directory: where people come from.") && !text.contains("Kiosks"),
        "{text}"
    );
    engine.stop().await;
}

#[tokio::test]
async fn first_rules_are_never_written_over_existing_ones() {
    let tide = Tide::start(10).await;
    let engine = &tide.engine;
    // A first rule file is written once, and never over one that is there.
    let scope = ScopeEdit {
        within: vec![ContainerEdit {
            dn: format!("ou=people,{BASE}"),
            one_level: false,
        }],
        ..ScopeEdit::default()
    };
    let error = engine
        .administration()
        .write_first_rules("harbour", SystemRole::Source, &scope, "tester")
        .await
        .expect_err("refused");
    assert!(
        error
            .to_string()
            .contains("has rules already, in harbour.toml"),
        "{error}"
    );
    engine.stop().await;
}

fn harbour(tide: &Tide) -> NewSystem {
    NewSystem {
        name: "harbour".into(),
        kind: SystemKind::Ldap,
        settings: serde_json::json!({"url": tide.harbour.url, "bind_dn": tide.harbour.admin_dn, "base_dn": BASE}),
        secret: Some(PASSWORD.into()),
    }
}

/// A source with a filter as its scope.
fn filtered(filter: &str) -> Option<(SystemRole, ScopeEdit)> {
    let scope = ScopeEdit {
        filter: Some(filter.into()),
        ..ScopeEdit::default()
    };
    Some((SystemRole::Source, scope))
}
#[tokio::test]
async fn a_rule_error_while_connecting_leaves_nothing_behind() {
    let tide = Tide::start(10).await;
    let folder = tempfile::tempdir().expect("a folder");
    let engine = engine(folder.path()).await;
    let error = engine
        .administration()
        .connect_system(harbour(&tide), filtered("(mail=*"), "tester")
        .await
        .expect_err("refused");
    let EngineError::Rules(faults) = &error else {
        panic!("{error}")
    };
    assert!(
        faults
            .iter()
            .any(|fault| fault.message.contains("not a filter")),
        "{faults:?}"
    );
    assert!(
        engine
            .store()
            .list_systems()
            .await
            .expect("listed")
            .is_empty()
            && engine
                .administration()
                .list_drafts()
                .await
                .expect("listed")
                .is_empty()
    );
    engine.stop().await;
}

#[tokio::test]
async fn connecting_systems_writes_their_rules_to_one_draft_and_publishes_nothing() {
    let tide = Tide::start(10).await;
    let folder = tempfile::tempdir().expect("a folder");
    let engine = engine(folder.path()).await;
    let (draft, file) = engine
        .administration()
        .connect_system(harbour(&tide), filtered("(mail=*)"), "tester")
        .await
        .expect("added")
        .expect("written");
    assert_eq!(
        (
            file.name.as_str(),
            engine.store().load_rules().await.expect("read").is_none()
        ),
        ("harbour.toml", true)
    );
    // The rules of a second system go to the same draft, so that both are published together.
    write(folder.path(), &["1;Ada"]);
    let settings = serde_json::json!({"path": folder.path().join("roster.csv"), "key": "number", "name": "name"});
    let roster = NewSystem {
        name: "roster".into(),
        kind: SystemKind::Feed,
        settings,
        secret: None,
    };
    let second = engine
        .administration()
        .connect_system(
            roster,
            Some((SystemRole::Source, ScopeEdit::default())),
            "tester",
        )
        .await
        .expect("added");
    assert_eq!(second.map(|(id, _)| id), Some(draft));
    let mut files: Vec<String> = engine
        .administration()
        .show_draft(draft)
        .await
        .expect("there")
        .row
        .files
        .into_iter()
        .map(|file| file.name)
        .collect();
    files.sort();
    assert_eq!(files, ["harbour.toml", "identities.toml", "roster.toml"]);
    engine.stop().await;
}

#[tokio::test]
async fn a_system_is_retired_with_its_rules_after_its_effect_was_shown() {
    let tide = Tide::writable().await;
    tide.run().await;
    let users = tide.berthing.users().len();
    let error = tide
        .engine
        .administration()
        .remove_system("berthing", false, "tester")
        .await
        .expect_err("refused");
    assert!(
        matches!(&error, EngineError::Conflict(said) if said.contains("systems retire berthing")),
        "{error}"
    );
    // A source, with its effect: everybody whom it alone holds would leave.
    let source = tide
        .engine
        .administration()
        .retirement_impact("harbour")
        .await;
    let target = tide
        .engine
        .administration()
        .retirement_impact("berthing")
        .await
        .expect("told");
    assert!(
        target.linked > 0 && target.accounts >= target.linked,
        "{target:?}"
    );
    assert_eq!(target.file.as_deref(), Some("berthing.toml"));
    assert_eq!(target.effect.lines, vec![], "nobody else is concerned");
    if let Ok(source) = source {
        assert!(
            source
                .effect
                .lines
                .iter()
                .any(|line| line.system.as_deref() == Some("berthing")),
            "leavers lose their accounts"
        );
    }
    assert!(
        tide.engine.store().find_system("berthing").await.is_ok(),
        "nothing was done"
    );

    tide.engine
        .administration()
        .remove_system("berthing", true, "tester")
        .await
        .expect("retired");
    let rules = tide.engine.rules().published_rules().await.expect("sound");
    assert!(
        !rules.set.systems.contains_key("berthing"),
        "its rules went with it"
    );
    assert!(tide.engine.store().find_system("berthing").await.is_err());
    assert_eq!(
        tide.berthing.users().len(),
        users,
        "nothing was written to it"
    );
    tide.run().await;
    assert!(
        tide.engine
            .views()
            .explain_person("berthing")
            .await
            .expect("told")
            .is_empty()
    );
    let journal = tide
        .engine
        .store()
        .list_journal(Some("berthing"), None, 10)
        .await
        .expect("read");
    assert!(journal.iter().any(|entry| entry.act == "system.removed"));
}
