//! The feed connector on real files and over HTTP: what it reads, what it sets aside, what it
//! refuses whole.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

use std::path::Path;
use std::sync::Arc;
use tide_connect::{
    BadRow, ConnectionState, Connector, FeedConnector, FeedSettings, SnapshotItem, inspect,
};
use tide_core::model::Observed;
use tide_core::states::{FeedFormat, StepState};
use tide_core::{ObjectType, Value};

fn settings(path: &Path) -> FeedSettings {
    serde_json::from_value(serde_json::json!({"path": path, "key": "number", "name": "name"}))
        .expect("sound")
}

fn access(folder: &Path) -> Arc<ConnectionState> {
    let access = Arc::new(ConnectionState::default());
    access.set_feed(|memory| memory.folders = vec![folder.to_owned()]);
    access
}

type Read = Result<(Vec<Observed>, Vec<BadRow>), String>;

async fn read(connector: FeedConnector) -> Read {
    let mut showing = Arc::new(connector).read_all(ObjectType::Person);
    let (mut seen, mut bad) = (Vec::new(), Vec::new());
    loop {
        match showing.recv().await.expect("an end") {
            Ok(SnapshotItem::Batch(batch)) => seen.extend(batch),
            Ok(SnapshotItem::Quarantined(rows)) => bad.extend(rows),
            Ok(SnapshotItem::Complete(count)) => {
                assert_eq!(count, seen.len());
                return Ok((seen, bad));
            }
            Ok(SnapshotItem::Unchanged) => return Err("unchanged".into()),
            Err(error) => return Err(error.code.into()),
        }
    }
}

async fn read_text(octets: &[u8], before: Option<usize>) -> Read {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("roster.csv");
    std::fs::write(&path, octets).expect("written");
    let access = access(folder.path());
    access.set_feed(|memory| memory.rows = before);
    read(FeedConnector::new(settings(&path), None, access).expect("sound")).await
}

fn names(seen: &[Observed]) -> Vec<&str> {
    seen.iter().map(|o| o.name.as_str()).collect()
}

#[tokio::test]
async fn every_encoding_and_delimiter_is_found_out() {
    let plain = "number;name;port\n1;Zoë Ängström;Øyhavn\n2;\"Holm; Ada\";\n";
    let utf16: Vec<u8> = [0xff, 0xfe]
        .into_iter()
        .chain(plain.encode_utf16().flat_map(u16::to_le_bytes))
        .collect();
    let windows: Vec<u8> = plain.chars().map(|c| c as u32 as u8).collect();
    let marked: Vec<u8> = [0xef, 0xbb, 0xbf]
        .into_iter()
        .chain(plain.bytes())
        .collect();
    for octets in [plain.as_bytes().to_vec(), utf16, windows, marked] {
        let (seen, bad) = read_text(&octets, None).await.expect("read");
        assert_eq!(names(&seen), ["Zoë Ängström", "Holm; Ada"]);
        assert!(bad.is_empty());
        assert_eq!(seen[0].attributes.get("port"), [Value::text("Øyhavn")]);
        assert!(
            seen[1].attributes.get("port").is_empty(),
            "an empty field is no value"
        );
    }
    for delimiter in [",", "\t", "|"] {
        let (seen, _) = read_text(plain.replace(';', delimiter).as_bytes(), None)
            .await
            .expect("read");
        assert_eq!(seen.len(), 2, "{delimiter:?}");
    }
}

#[tokio::test]
async fn json_lines_keep_their_types_and_lists() {
    let text = "{\"number\": 7, \"name\": \"Ada\", \"crew\": true, \"phones\": [\"1\", \"2\"], \"home\": {\"town\": \"Unst\"}}\n{\"number\": 8}\n";
    let (seen, bad) = read_text(text.as_bytes(), None).await.expect("read");
    assert!(bad.is_empty());
    assert_eq!(
        (seen[0].key.as_str(), seen[0].attributes.get("crew")),
        ("7", &[Value::Bool(true)][..])
    );
    assert_eq!(seen[0].attributes.get("phones").len(), 2);
    assert_eq!(seen[0].attributes.get("home.town"), [Value::text("Unst")]);
}

#[tokio::test]
async fn bad_rows_are_set_aside_with_their_line_and_the_others_go_on() {
    let text = "number,name\n1,Ada\n2,Bram,too many\n,Nobody\n4,Chidi\n4,Doppel\n\"5\",\"two\nlines\"\n6,Eiko\n";
    let (seen, bad) = read_text(text.as_bytes(), None).await.expect("read");
    assert_eq!(names(&seen), ["Ada", "two\nlines", "Eiko"]);
    let told: Vec<(u64, &str, Option<&str>)> = bad
        .iter()
        .map(|b| (b.line, b.reason.as_str(), b.key.as_deref()))
        .collect();
    assert_eq!(
        told,
        [
            (3, "it has 3 fields, and the header has 2", None),
            (4, "the key `number` is empty", None),
            (5, "the key 4 is in 2 rows: none of them is used", Some("4")),
            (6, "the key 4 is in 2 rows: none of them is used", Some("4")),
        ]
    );
    assert_eq!(bad[0].raw, "2,Bram,too many");
}

#[tokio::test]
async fn a_file_that_cannot_be_trusted_is_refused_whole() {
    let rows = |count: usize| {
        (1..=count)
            .map(|n| format!("{n},Person {n}\n"))
            .collect::<String>()
    };
    let whole = format!("number,name\n{}", rows(100));
    for (octets, before, wanted) in [
        (b"".to_vec(), None, "feed_empty"),
        (b"\xef\xbb\xbf".to_vec(), None, "feed_empty"),
        (b"number,name\n".to_vec(), None, "feed_empty"),
        (b"number,name\n1,Ada\n2".to_vec(), None, "feed_truncated"),
        (b"{\"number\": 1}\n{\"num".to_vec(), None, "feed_truncated"),
        (whole.clone().into_bytes(), Some(200), "feed_shrunk"),
        (b"name,port\nAda,Unst\n".to_vec(), None, "feed_key"),
        (b"number,number\n1,2\n".to_vec(), None, "feed_header"),
        (
            b"<html><body>Please log in</body></html>\n".to_vec(),
            None,
            "feed_format",
        ),
        (
            b"PK\x03\x04\x00\x00\x00\x00zip\n".to_vec(),
            None,
            "feed_binary",
        ),
        (
            format!("number,name\n1,\"Ada\n{}", "x".repeat(2 << 20)).into_bytes(),
            None,
            "feed_quote",
        ),
    ] {
        assert_eq!(
            read_text(&octets, before).await.expect_err("refused"),
            wanted
        );
    }
    assert_eq!(
        read_text(whole.as_bytes(), Some(110))
            .await
            .expect("a small loss is no landslide")
            .0
            .len(),
        100
    );
}

#[tokio::test]
async fn two_hundred_thousand_rows_pass_through_as_a_stream() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("large.csv");
    let text: String = std::iter::once("number,name,port\n".to_owned())
        .chain((0..200_000).map(|n| format!("{n},Person {n},Unst\n")))
        .collect();
    std::fs::write(&path, text).expect("written");
    let mut showing =
        Arc::new(FeedConnector::new(settings(&path), None, access(folder.path())).expect("sound"))
            .read_all(ObjectType::Person);
    let (mut rows, mut most) = (0, 0);
    while let Some(Ok(SnapshotItem::Batch(batch))) = showing.recv().await {
        rows += batch.len();
        most = most.max(batch.len());
    }
    assert_eq!(rows, 200_000);
    assert!(most <= 500, "never more than a batch at a time: {most}");
}

#[tokio::test]
async fn a_folder_gives_its_newest_finished_file_and_nothing_outside_it() {
    let folder = tempfile::tempdir().expect("a folder");
    let write = |name: &str, row: &str| {
        std::fs::write(folder.path().join(name), format!("number,name\n{row}\n")).expect("written")
    };
    write("monday.csv", "1,Monday");
    std::thread::sleep(std::time::Duration::from_millis(20));
    write("tuesday.csv", "1,Tuesday");
    std::thread::sleep(std::time::Duration::from_millis(20));
    write("wednesday.csv.part", "1,Unfinished");
    write(".hidden.csv", "1,Hidden");
    let of = |path: &Path| {
        FeedConnector::new(settings(path), None, access(folder.path())).expect("sound")
    };
    assert_eq!(
        names(&read(of(folder.path())).await.expect("read").0),
        ["Tuesday"]
    );
    let outside = tempfile::tempdir().expect("another folder");
    std::fs::write(outside.path().join("secret.csv"), "number,name\n1,Secret\n").expect("written");
    std::os::unix::fs::symlink(
        outside.path().join("secret.csv"),
        folder.path().join("link.csv"),
    )
    .expect("linked");
    for path in [
        outside.path().join("secret.csv"),
        folder.path().join("link.csv"),
        folder.path().join("../../etc/passwd"),
    ] {
        let code = read(of(&path)).await.expect_err("refused");
        assert!(
            ["feed_folder", "feed_missing"].contains(&code.as_str()),
            "{path:?}: {code}"
        );
    }
    assert_eq!(
        names(&read(of(folder.path())).await.expect("read").0),
        ["Tuesday"],
        "a link in the folder is not followed"
    );
    assert_eq!(
        FeedConnector::new(settings(Path::new("roster.csv")), None, Arc::default())
            .err()
            .expect("refused")
            .code,
        "feed_path"
    );
}

#[tokio::test]
async fn a_pulled_file_is_read_once_for_each_of_its_versions() {
    use axum::http::{HeaderMap, StatusCode, header};
    use axum::response::IntoResponse;
    let serve = |headers: HeaderMap| async move {
        if headers
            .get(header::AUTHORIZATION)
            .is_none_or(|v| v != "Bearer feed-token")
        {
            return StatusCode::UNAUTHORIZED.into_response();
        }
        if headers
            .get(header::IF_NONE_MATCH)
            .is_some_and(|v| v == "\"one\"")
        {
            return StatusCode::NOT_MODIFIED.into_response();
        }
        ([(header::ETAG, "\"one\"")], "number,name\n1,Ada\n2,Bram\n").into_response()
    };
    let app = axum::Router::new().route("/roster.csv", axum::routing::get(serve));
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0")
        .await
        .expect("listens");
    let url = format!(
        "http://{}/roster.csv",
        listener.local_addr().expect("bound")
    );
    tokio::spawn(async move { axum::serve(listener, app).await });
    let settings: FeedSettings =
        serde_json::from_value(serde_json::json!({"url": url, "key": "number"})).expect("sound");
    let access = Arc::new(ConnectionState::default());
    let of = |token: &str| {
        FeedConnector::new(
            settings.clone(),
            Some(tide_connect::Secret::new(token)),
            access.clone(),
        )
        .expect("sound")
    };
    assert_eq!(
        read(of("wrong")).await.expect_err("refused"),
        "token_refused"
    );
    assert_eq!(read(of("feed-token")).await.expect("read").0.len(), 2);
    access.set_feed(|memory| memory.rows = Some(2));
    // What was handed over and not kept is pulled again.
    assert_eq!(read(of("feed-token")).await.expect("read again").0.len(), 2);
    access.feed_was_kept();
    assert_eq!(
        read(of("feed-token")).await.expect_err("not read again"),
        "unchanged"
    );
    assert!(of("feed-token").run_check().await.is_healthy());
}

#[tokio::test]
async fn the_query_of_a_signed_address_is_a_secret() {
    use axum::extract::RawQuery;
    use axum::http::StatusCode;
    use axum::response::IntoResponse;
    let serve = |RawQuery(query): RawQuery| async move {
        match query.as_deref() {
            Some("sig=abc%2F123&se=2027-01-01") => "number,name\n1,Ada\n".into_response(),
            _ => StatusCode::FORBIDDEN.into_response(),
        }
    };
    let app = axum::Router::new().route("/roster.csv", axum::routing::get(serve));
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0")
        .await
        .expect("listens");
    let url = format!(
        "http://{}/roster.csv",
        listener.local_addr().expect("bound")
    );
    tokio::spawn(async move { axum::serve(listener, app).await });
    let feed = |url: &str, secret: Option<&str>| {
        let settings =
            serde_json::json!({"url": url, "key": "number", "signed_url": secret.is_some()});
        let settings: FeedSettings = serde_json::from_value(settings).expect("sound");
        FeedConnector::new(
            settings,
            secret.map(tide_connect::Secret::new),
            Arc::new(ConnectionState::default()),
        )
    };
    // In the address it would be kept, shown and logged.
    let error = feed(&format!("{url}?sig=abc"), None)
        .err()
        .expect("refused");
    assert_eq!(
        (error.code, error.to_string().contains("abc")),
        ("secret_in_url", false),
        "{error}"
    );
    assert!(feed(&format!("{url}?format=csv"), None).is_ok());
    let signed = |secret| feed(&url, Some(secret)).expect("sound");
    assert_eq!(
        read(signed("?sig=abc%2F123&se=2027-01-01"))
            .await
            .expect("read")
            .0
            .len(),
        1
    );
    assert_eq!(
        read(signed("sig=other")).await.expect_err("refused"),
        "token_refused"
    );
}

#[tokio::test]
async fn a_file_is_read_when_it_stands_still() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("roster.csv");
    std::fs::write(&path, "number;name\n1;Ada\n").expect("written");
    let connector =
        FeedConnector::new(settings(&path), None, access(folder.path())).expect("sound");
    let rest = async {
        tokio::time::sleep(std::time::Duration::from_millis(80)).await;
        std::fs::write(&path, "number;name\n1;Ada\n2;Bram\n").expect("written");
    };
    let (seen, ()) = tokio::join!(read(connector), rest);
    assert_eq!(seen.expect("read").0.len(), 2, "half a file is not read");
}

#[tokio::test]
async fn a_file_is_looked_at_before_it_is_used() {
    let text = "number,name,mail,start,crew\n1,Ada,ada@skerry.example,2026-01-02,true\n2,Bram,bram@skerry.example,2026-02-03,false\n3,Bram,,2026-02-03,true\n9,short\n";
    let look = inspect(&mut std::io::Cursor::new(text), "roster.csv").expect("looked at");
    assert_eq!(
        (
            look.format,
            look.delimiter.as_deref(),
            look.encoding.as_str()
        ),
        (FeedFormat::Csv, Some("comma"), "UTF-8")
    );
    assert_eq!((look.rows, look.bad_count, look.bad[0].line), (3, 1, 5));
    let of = |name: &str| look.columns.iter().find(|c| c.name == name).expect("there");
    assert!(of("number").key && !of("name").key && !of("mail").key);
    assert_eq!(
        (
            of("number").kind.as_str(),
            of("mail").kind.as_str(),
            of("start").kind.as_str(),
            of("crew").kind.as_str()
        ),
        ("number", "address", "date", "boolean")
    );
    assert_eq!((of("mail").empty, of("name").repeated), (1, 1));
    assert_eq!(look.first[2], ["3", "Bram", "", "2026-02-03", "true"]);
    let broken =
        tide_connect::inspect(&mut std::io::Cursor::new("\u{0}\u{1}"), "x").expect_err("refused");
    assert_eq!(broken.code, "feed_binary");
}

#[tokio::test]
async fn a_feed_is_tested_and_described() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("roster.csv");
    std::fs::write(&path, "number,name\n1,Ada\n2,Bram\n2,Doppel\n").expect("written");
    let of = |key: &str| {
        let settings = FeedSettings {
            key: key.into(),
            ..settings(&path)
        };
        FeedConnector::new(settings, None, access(folder.path())).expect("sound")
    };
    let report = of("number").run_check().await;
    assert!(report.is_healthy(), "{report:#?}");
    let rows = report.steps.last().expect("steps");
    assert_eq!(
        (rows.state, rows.message.as_str()),
        (StepState::Warned, "1 valid, 2 in quarantine")
    );
    let report = of("numbr").run_check().await;
    let failed = report
        .steps
        .iter()
        .find(|s| s.state == StepState::Failed)
        .expect("failed");
    assert_eq!(
        (failed.code.as_deref(), failed.remedy.as_deref()),
        (Some("feed_key"), Some("did you mean `number`?"))
    );
    let schema = of("number").describe().await.expect("described").schema;
    assert_eq!(
        schema[&ObjectType::Person].names().collect::<Vec<_>>(),
        ["name", "number"]
    );
}
