use super::*;
use tide_core::model::Observed;
use tide_core::states::{ChangeSetKind, PrincipalKind, SystemKind};
use tide_core::{Attributes, ObjectType, Value};

async fn store() -> (tempfile::TempDir, Store) {
    let folder = tempfile::tempdir().expect("a folder");
    let store = Store::open(&folder.path().join("tide.db"), MasterKey::generate())
        .await
        .expect("opens");
    (folder, store)
}

fn at(second: i64) -> Timestamp {
    Timestamp::from_second(second).expect("in range")
}

fn seen(key: &str, name: &str) -> Observed {
    let attributes: Attributes = [("cn".to_owned(), vec![Value::text(name)])]
        .into_iter()
        .collect();
    Observed {
        key: key.into(),
        name: name.into(),
        attributes,
        fault: None,
        version: None,
        is_exact: true,
    }
}

async fn store_with(system: &str, kind: SystemKind) -> (tempfile::TempDir, Store) {
    let (folder, store) = store().await;
    store
        .add_system(system, kind, &serde_json::json!({}), "p", at(0))
        .await
        .expect("added");
    (folder, store)
}

async fn read_population(store: &Store) -> Vec<tide_core::Account> {
    store.load_population().await.expect("read").accounts
}

#[tokio::test]
async fn absence_follows_from_a_complete_reading_only() {
    let (_folder, store) = store_with("harbour", SystemKind::Ldap).await;
    let begin = async |second| {
        store
            .begin_reading("harbour", ObjectType::Person, at(second))
            .await
            .expect("begins")
    };
    let show = async |reading, second, accounts| {
        store
            .store_batch(reading, "harbour", ObjectType::Person, at(second), accounts)
            .await
            .expect("kept");
    };
    let all = || vec![seen("1", "Ada"), seen("2", "Bo")];
    let first = begin(10).await;
    show(first, 10, all()).await;
    assert_eq!(
        store
            .complete_reading(first, Vec::new(), at(11))
            .await
            .expect("ends"),
        0
    );

    let broken = begin(20).await;
    show(broken, 20, vec![seen("1", "Ada")]).await;
    store
        .break_reading(broken, "cut", at(21))
        .await
        .expect("ends");
    let population = store.load_population().await.expect("read");
    assert!(population.accounts.iter().all(|a| a.absent_since.is_none()));

    let whole = begin(30).await;
    show(whole, 30, vec![seen("1", "Ada")]).await;
    assert_eq!(
        store
            .complete_reading(whole, Vec::new(), at(31))
            .await
            .expect("ends"),
        1
    );
    let population = store.load_population().await.expect("read");
    assert_eq!(
        (
            population.accounts[1].absent_since,
            population.accounts[1].absence_confirmed
        ),
        (Some(at(31)), false)
    );
    assert_eq!(population.systems["harbour"].read, [ObjectType::Person]);
}

#[tokio::test]
async fn overlapping_reads_mark_no_account_absent() {
    let (_folder, store) = store_with("roster", SystemKind::Feed).await;
    let begin = async |second| {
        store
            .begin_reading("roster", ObjectType::Person, at(second))
            .await
            .expect("begins")
    };
    let show = async |reading, second| {
        let all = vec![seen("1", "Ada"), seen("2", "Bo")];
        store
            .store_batch(reading, "roster", ObjectType::Person, at(second), all)
            .await
            .expect("kept");
    };
    let end = async |reading, second| {
        store
            .complete_reading(reading, Vec::new(), at(second))
            .await
            .expect("ends")
    };
    let (first, second) = (begin(10).await, begin(20).await);
    show(first, 10).await;
    show(second, 20).await;
    assert_eq!(
        (end(first, 21).await, end(second, 22).await),
        (0, 0),
        "each of them contained all"
    );
    // The other way round: the earlier one shows them last.
    let (third, fourth) = (begin(30).await, begin(40).await);
    show(fourth, 40).await;
    show(third, 30).await;
    assert_eq!((end(fourth, 41).await, end(third, 42).await), (0, 0));
    // Whoever is gone afterwards is missing as before.
    let fifth = begin(50).await;
    store
        .store_batch(
            fifth,
            "roster",
            ObjectType::Person,
            at(50),
            vec![seen("2", "Bo")],
        )
        .await
        .expect("kept");
    assert_eq!(end(fifth, 51).await, 1);
}

#[tokio::test]
async fn an_absence_is_confirmed_by_the_word_of_its_system() {
    let (_folder, store) = store_with("harbour", SystemKind::Ldap).await;
    let read = async |second: i64, all: Vec<Observed>, gone: Vec<String>| {
        let reading = store
            .begin_reading("harbour", ObjectType::Person, at(second))
            .await
            .expect("begins");
        store
            .store_batch(reading, "harbour", ObjectType::Person, at(second), all)
            .await
            .expect("kept");
        store
            .complete_reading(reading, gone, at(second + 1))
            .await
            .expect("ends");
    };
    let absences = async || {
        let accounts = read_population(&store).await;
        accounts
            .iter()
            .map(|account| (account.absent_since, account.absence_confirmed))
            .collect::<Vec<_>>()
    };
    let tell = async |gone: &str, second: i64| {
        let deleted = vec![gone.to_owned()];
        let kept = store
            .store_changes(
                ChangeBatch::new("harbour", ObjectType::Person, Vec::new(), deleted),
                at(second),
            )
            .await
            .expect("queued");
        kept.await.expect("kept")
    };
    read(
        10,
        vec![seen("1", "Ada"), seen("2", "Bo"), seen("3", "Cy")],
        Vec::new(),
    )
    .await;
    read(20, vec![seen("3", "Cy")], vec!["1".into()]).await;
    assert_eq!(
        absences().await,
        [(Some(at(21)), true), (Some(at(21)), false), (None, false)]
    );
    // A deletion can be reported after the list. It is news, and the absence began earlier.
    assert_eq!(tell("2", 30).await, [2]);
    assert_eq!(tell("2", 31).await, [] as [i64; 0]);
    assert_eq!(tell("3", 32).await, [3]);
    assert_eq!(
        absences().await,
        [
            (Some(at(21)), true),
            (Some(at(21)), true),
            (Some(at(32)), true)
        ]
    );
    // An account that returns and is missing again is absent since then.
    read(
        40,
        vec![seen("1", "Ada"), seen("2", "Bo"), seen("3", "Cy")],
        Vec::new(),
    )
    .await;
    assert_eq!(absences().await, [(None, false); 3]);
    read(50, vec![seen("2", "Bo"), seen("3", "Cy")], Vec::new()).await;
    assert_eq!(
        absences().await,
        [(Some(at(51)), false), (None, false), (None, false)]
    );
}

#[tokio::test]
async fn one_failing_job_does_not_undo_its_neighbours() {
    let (_folder, store) = store().await;
    let settings = serde_json::json!({});
    let (one, two, three) = tokio::join!(
        store.add_system("a", SystemKind::Ldap, &settings, "p", at(0)),
        store.add_system("a", SystemKind::Ldap, &settings, "p", at(0)),
        store.add_system("b", SystemKind::Scim, &settings, "p", at(0)),
    );
    assert!(one.is_ok() && three.is_ok());
    assert!(matches!(two, Err(StoreError::Exists { .. })));
    assert_eq!(store.list_systems().await.expect("read").len(), 2);
    assert_eq!(store.verify_journal().await.expect("read"), Ok(2));
}

#[tokio::test]
async fn secrets_are_sealed_and_bound_to_their_place() {
    let (folder, store) = store().await;
    store
        .put_secret("harbour", "password", "canary-4711", at(0))
        .await
        .expect("kept");
    let read = store
        .load_secret("harbour", "password")
        .await
        .expect("opens");
    assert_eq!(read.as_ref().map(|s| s.as_str()), Some("canary-4711"));
    // Moved to another row, it does not open.
    store
        .writer
        .run(|c| {
            Box::pin(async move {
                sqlx::query("UPDATE secret SET owner = 'berthing'")
                    .execute(c)
                    .await?;
                Ok(())
            })
        })
        .await
        .expect("moved");
    assert!(matches!(
        store.load_secret("berthing", "password").await,
        Err(StoreError::Sealed { .. })
    ));
    store.close().await;
    for entry in std::fs::read_dir(folder.path()).expect("listed") {
        let bytes = std::fs::read(entry.expect("entry").path()).expect("read");
        assert!(!bytes.windows(11).any(|w| w == b"canary-4711"));
    }
}

#[tokio::test]
async fn the_journal_cannot_be_rewritten_unseen() {
    let (_folder, store) = store().await;
    for n in 0..5 {
        store
            .note("p", "test", &n.to_string(), "", at(n))
            .await
            .expect("kept");
    }
    assert_eq!(store.verify_journal().await.expect("read"), Ok(5));
    let refused = store
        .writer
        .run(|c| {
            Box::pin(async move {
                sqlx::query("UPDATE journal SET act = 'other' WHERE id = 3")
                    .execute(c)
                    .await?;
                Ok(())
            })
        })
        .await;
    assert!(
        refused
            .expect_err("refused")
            .to_string()
            .contains("append-only")
    );
    store
        .writer
        .run(|c| {
            Box::pin(async move {
                sqlx::query("DROP TRIGGER journal_no_update")
                    .execute(&mut *c)
                    .await?;
                sqlx::query("UPDATE journal SET act = 'other' WHERE id = 3")
                    .execute(c)
                    .await?;
                Ok(())
            })
        })
        .await
        .expect("forged");
    assert_eq!(store.verify_journal().await.expect("read"), Err(3));
}

#[tokio::test]
async fn a_journal_that_was_cut_off_or_written_without_the_key_is_found() {
    use sqlx::ConnectOptions;
    let (folder, store) = store().await;
    assert_eq!(
        (
            store.journal_head().await.expect("read"),
            store.verify_journal().await.expect("read")
        ),
        (None, Ok(0))
    );
    let mut heads = Vec::new();
    for n in 0..5 {
        store
            .note("p", "test", &n.to_string(), "", at(n))
            .await
            .expect("kept");
        heads.push(store.journal_head().await.expect("read").expect("a head"));
    }
    // A head that was exported stays part of the journal, whatever comes after it.
    assert!(store.has_journal_head(&heads[2]).await.expect("read"));
    for other in ["3:00", "9:00", "nonsense", ""] {
        assert!(
            !store.has_journal_head(other).await.expect("read"),
            "{other}"
        );
    }
    let mut forger = sqlx::sqlite::SqliteConnectOptions::new()
        .filename(folder.path().join("tide.db"))
        .connect()
        .await
        .expect("opens");
    sqlx::raw_sql("DROP TRIGGER journal_no_update; DROP TRIGGER journal_no_delete")
        .execute(&mut forger)
        .await
        .expect("dropped");
    // An entry that somebody adds who has not the key, with a code that another entry has.
    sqlx::query("INSERT INTO journal SELECT 6, at, principal, act, '9', detail, values_hash, hash FROM journal WHERE id = 5")
        .execute(&mut forger)
        .await
        .expect("forged");
    assert_eq!(store.verify_journal().await.expect("read"), Err(6));
    for (cut, wrong) in [
        ("id > 5", None),
        ("id > 3", Some(4)),
        ("id = 2", Some(2)),
        ("id > 0", Some(1)),
    ] {
        sqlx::query(sqlx::AssertSqlSafe(format!(
            "DELETE FROM journal WHERE {cut}"
        )))
        .execute(&mut forger)
        .await
        .expect("cut");
        assert_eq!(
            store.verify_journal().await.expect("read"),
            wrong.map_or(Ok(5), Err),
            "{cut}"
        );
    }
    // Without the sealed head too.
    sqlx::query("DELETE FROM meta WHERE name = 'journal head'")
        .execute(&mut forger)
        .await
        .expect("deleted");
    store
        .note("p", "test", "new", "", at(9))
        .await
        .expect("kept");
    assert!(
        !store.has_journal_head(&heads[4]).await.expect("read"),
        "the head that was kept elsewhere shows it"
    );
}

#[cfg(unix)]
#[tokio::test]
async fn only_the_owner_may_read_the_records_whatever_the_rights_of_the_folder() {
    use std::os::unix::fs::PermissionsExt;
    let folder = tempfile::tempdir().expect("a folder");
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).expect("set");
    let file = folder.path().join("tide.db");
    let modes = || -> Vec<(String, u32)> {
        let entries = std::fs::read_dir(folder.path())
            .expect("listed")
            .map(|entry| entry.expect("entry"));
        entries
            .map(|e| {
                (
                    e.file_name().to_string_lossy().into_owned(),
                    e.metadata().expect("read").permissions().mode() & 0o777,
                )
            })
            .collect()
    };
    let key = MasterKey::generate();
    let store = Store::open(&file, key.clone()).await.expect("opens");
    store.note("p", "test", "1", "", at(0)).await.expect("kept");
    assert!(
        modes().len() >= 2 && modes().iter().all(|(_, mode)| *mode == 0o600),
        "{:?}",
        modes()
    );
    store.close().await;

    // An upgrade that was interrupted after its copy was made is done again, and keeps that copy.
    let migrations = folder.path().join("migrations");
    std::fs::create_dir(&migrations).expect("created");
    let schema = include_str!("../migrations/0001_schema.sql");
    std::fs::write(migrations.join("0001_schema.sql"), schema).expect("written");
    std::fs::write(
        migrations.join("0002_later.sql"),
        "CREATE TABLE later (id INTEGER PRIMARY KEY) STRICT;",
    )
    .expect("written");
    let later = Migrator::new(migrations.as_path()).await.expect("read");
    std::fs::write(folder.path().join("tide.before-2.db"), "half a copy").expect("written");
    let open = async |path: &Path| {
        let options = SqliteConnectOptions::new().filename(path);
        SqliteConnection::connect_with(&options).await
    };
    let mut connection = open(&file).await.expect("opens");
    migrate(&mut connection, &file, &later)
        .await
        .expect("is upgraded");
    sqlx::query("SELECT id FROM later")
        .fetch_all(&mut connection)
        .await
        .expect("the later schema");
    connection.close().await.expect("closed");
    let copy = folder.path().join("tide.before-2-2.db");
    assert!(
        modes().contains(&("tide.before-2-2.db".to_owned(), 0o600)),
        "{:?}",
        modes()
    );
    let half = std::fs::read(folder.path().join("tide.before-2.db")).expect("read");
    assert_eq!(half, b"half a copy");
    let mut copied = open(&copy).await.expect("opens");
    let entries: i64 = sqlx::query_scalar("SELECT count(*) FROM journal")
        .fetch_one(&mut copied)
        .await
        .expect("read");
    assert_eq!(entries, 1);
    let later_tables: i64 =
        sqlx::query_scalar("SELECT count(*) FROM sqlite_master WHERE name = 'later'")
            .fetch_one(&mut copied)
            .await
            .expect("read");
    assert_eq!(
        later_tables, 0,
        "the copy has the schema before the upgrade"
    );
}

#[test]
fn a_missing_key_beside_records_is_no_reason_to_make_a_new_one() {
    let folder = tempfile::tempdir().expect("a folder");
    let (key, records) = (folder.path().join("key"), folder.path().join("tide.db"));
    let made = MasterKey::of_records(&key, &records).expect("the first start makes one");
    std::fs::write(&records, "").expect("written");
    assert_eq!(
        MasterKey::of_records(&key, &records).expect("read").id(),
        made.id()
    );
    std::fs::remove_file(&key).expect("removed");
    let refused = MasterKey::of_records(&key, &records)
        .expect_err("refused")
        .to_string();
    assert!(
        refused.contains("is missing") && refused.contains("put the key back"),
        "{refused}"
    );
    assert!(!key.exists());
}

#[tokio::test]
async fn a_newer_store_is_refused() {
    let (folder, store) = store().await;
    store.writer.run(|c| Box::pin(async move {
        sqlx::query("INSERT INTO _sqlx_migrations (version, description, success, checksum, execution_time) VALUES (9999, 'later', 1, x'00', 0)").execute(c).await?;
        Ok(())
    })).await.expect("marked");
    store.close().await;
    let error = Store::open(&folder.path().join("tide.db"), MasterKey::generate())
        .await
        .err()
        .expect("refused");
    assert!(error.to_string().contains("schema 9999"), "{error}");
}

#[cfg(unix)]
#[test]
fn a_key_file_that_others_may_read_is_refused() {
    use std::os::unix::fs::PermissionsExt;
    let folder = tempfile::tempdir().expect("a folder");
    let file = folder.path().join("key");
    let made = MasterKey::from_environment_or_file(&file).expect("made");
    assert_eq!(
        std::fs::metadata(&file)
            .expect("there")
            .permissions()
            .mode()
            & 0o777,
        0o600
    );
    assert_eq!(
        MasterKey::from_environment_or_file(&file)
            .expect("read")
            .id(),
        made.id()
    );
    std::fs::set_permissions(&file, std::fs::Permissions::from_mode(0o644)).expect("set");
    assert!(
        MasterKey::from_environment_or_file(&file)
            .expect_err("refused")
            .to_string()
            .contains("chmod 600")
    );
}

/// A store with an operator and their token; returns its bearer.
async fn store_with_operator() -> (tempfile::TempDir, Store, Bearer) {
    let (folder, store) = store().await;
    assert!(store.has_no_operator().await.expect("read"));
    let operator = store
        .add_principal(PrincipalKind::Operator, "first", Some("tok-1"), at(0))
        .await
        .expect("made");
    let bearer = bearer_of(&store, "tok-1", 1).await.expect("good");
    assert_eq!(bearer.principal, operator);
    assert_eq!(bearer_of(&store, "tok-2", 1).await, None);
    (folder, store, bearer)
}

async fn bearer_of(store: &Store, token: &str, second: i64) -> Option<Bearer> {
    store.by_token(token, at(second)).await.expect("read")
}

async fn is_session(store: &Store, cookie: &str, now: i64) -> bool {
    let session = store.find_session(cookie, at(now), at(now)).await;
    session.expect("read").is_some()
}

#[tokio::test]
async fn a_session_ends_at_its_time_or_by_hand() {
    let (_folder, store, bearer) = store_with_operator().await;
    let id = store
        .begin_session(&bearer, "cookie", at(100), at(1))
        .await
        .expect("begun");
    assert!(is_session(&store, "cookie", 99).await);
    assert!(!is_session(&store, "cookie", 101).await);
    store.end_session(&id, at(2)).await.expect("ended");
    assert!(!is_session(&store, "cookie", 3).await);
}

fn operator_token(token: &str, expires: Option<Timestamp>) -> NewTokenRow<'_> {
    NewTokenRow {
        kind: PrincipalKind::Operator,
        name: "first",
        token,
        label: "",
        expires,
        earlier_until: None,
    }
}

#[tokio::test]
async fn a_session_ends_with_its_token() {
    let (_folder, store, _) = store_with_operator().await;
    for (token, expires) in [("tok-3", None), ("tok-4", Some(at(50)))] {
        store
            .add_token(operator_token(token, expires), "first", at(3))
            .await
            .expect("made");
        let bearer = bearer_of(&store, token, 4).await.expect("good");
        let session = store
            .begin_session(&bearer, token, at(100), at(4))
            .await
            .expect("begun");
        assert!(
            store
                .session_lasts(&session, at(5), at(5))
                .await
                .expect("read")
        );
        if expires.is_none() {
            let kind = PrincipalKind::Operator;
            let end = async || {
                store
                    .end_token(kind, "first", &bearer.token, "first", at(6))
                    .await
                    .expect("asked")
            };
            assert!(end().await);
            assert!(!end().await, "it had ended");
        }
        assert!(
            !store
                .session_lasts(&session, at(7), at(50))
                .await
                .expect("read"),
            "{token}"
        );
        assert!(!is_session(&store, token, 50).await);
        assert!(
            !store
                .token_lasts(&bearer.token, at(50))
                .await
                .expect("read")
        );
    }
}

#[tokio::test]
async fn a_rotation_ends_the_earlier_tokens_of_one_operator() {
    let (_folder, store, _) = store_with_operator().await;
    // A system of the same name has tokens of its own.
    let system = NewTokenRow {
        kind: PrincipalKind::System,
        name: "first",
        token: "sys-1",
        label: "",
        expires: None,
        earlier_until: None,
    };
    store.add_token(system, "first", at(8)).await.expect("made");
    let bearer = bearer_of(&store, "sys-1", 9).await;
    assert_eq!(
        bearer.map(|bearer| bearer.principal.kind),
        Some(PrincipalKind::System)
    );
    let next = NewTokenRow {
        earlier_until: Some(at(20)),
        ..operator_token("tok-5", None)
    };
    store.add_token(next, "first", at(9)).await.expect("made");
    assert!(bearer_of(&store, "tok-1", 19).await.is_some());
    assert!(bearer_of(&store, "tok-1", 20).await.is_none());
    assert!(bearer_of(&store, "tok-5", 20).await.is_some());
}

#[tokio::test]
async fn a_locked_file_is_reported_and_nothing_is_half_stored() {
    use sqlx::ConnectOptions;
    let (folder, store) = store().await;
    let file = folder.path().join("tide.db");
    let mut other = sqlx::sqlite::SqliteConnectOptions::new()
        .filename(&file)
        .connect()
        .await
        .expect("opens");
    sqlx::query("BEGIN IMMEDIATE")
        .execute(&mut other)
        .await
        .expect("locked");
    // Not for the ten seconds that the service has the patience for.
    store
        .writer
        .run(|c| {
            Box::pin(async move {
                Ok(sqlx::query("PRAGMA busy_timeout = 100")
                    .execute(c)
                    .await
                    .map(|_| ())?)
            })
        })
        .await
        .expect_err("the wish stands in a transaction that cannot begin");
    let refused = store
        .begin_change_set(ChangeSetKind::Run, "tester", None, at(0))
        .await
        .expect_err("locked");
    assert!(
        matches!(refused, StoreError::Unwritable { .. }),
        "{refused}"
    );
    assert!(
        refused
            .to_string()
            .contains("the records cannot be written"),
        "{refused}"
    );
    sqlx::query("ROLLBACK")
        .execute(&mut other)
        .await
        .expect("let go");
    let id = store
        .begin_change_set(ChangeSetKind::Run, "tester", None, at(1))
        .await
        .expect("kept");
    assert_eq!(
        (
            id,
            store
                .change_sets(None, None, false, 10)
                .await
                .expect("read")
                .len()
        ),
        (1, 1),
        "what was refused left nothing"
    );
    assert_eq!(
        store.verify_journal().await.expect("read").map_err(|_| ()),
        Ok(1)
    );
}
