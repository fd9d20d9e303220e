//! `eager-tide demo --check`: the whole story, played through the client and the directory's own
//! tools, with every expectation checked.

use crate::demo::Stage;
use anyhow::{Context, bail};
use serde_json::Value;
use std::process::{ExitCode, Stdio};
use tide_standins::world::{BASE, Crew};
use tokio::io::AsyncWriteExt;
use tokio::process::Command;

/// One story being told.
struct Story<'s> {
    stage: &'s Stage,
    wrong: usize,
}

impl Story<'_> {
    /// Runs the client as its user would.
    async fn client(&self, arguments: &[&str]) -> anyhow::Result<(i32, String)> {
        let output = Command::new(std::env::current_exe()?)
            .args(arguments)
            .env("EAGER_TIDE_URL", &self.stage.url)
            .env("EAGER_TIDE_TOKEN", &self.stage.token)
            .stdin(Stdio::null())
            .output()
            .await?;
        let text = String::from_utf8_lossy(&output.stdout).into_owned()
            + String::from_utf8_lossy(&output.stderr).as_ref();
        Ok((output.status.code().unwrap_or(-1), text))
    }

    async fn json(&self, arguments: &[&str]) -> anyhow::Result<Value> {
        let (code, text) = self
            .client(&[arguments, &["--output", "json"]].concat())
            .await?;
        serde_json::from_str(&text).with_context(|| {
            format!(
                "`{}` ended with {code} and said: {text}",
                arguments.join(" ")
            )
        })
    }

    fn expect(&mut self, what: &str, good: bool, seen: impl std::fmt::Display) {
        println!("   {} {what}: {seen}", if good { "ok " } else { "OFF" });
        self.wrong += usize::from(!good);
    }

    /// The writes that arrived at the service since the last time it was asked.
    fn writes(&self) -> Vec<String> {
        self.stage.berthing.take_writes()
    }

    /// Edits the directory: with OpenLDAP's tools where they are, else over our own connection.
    async fn edit(&self, ldif: &str) -> anyhow::Result<&'static str> {
        let (admin, password) = self.stage.harbour.admin();
        let tool = Command::new("ldapmodify")
            .args([
                "-x",
                "-H",
                self.stage.harbour.url(),
                "-D",
                admin,
                "-w",
                password,
            ])
            .stdin(Stdio::piped())
            .stdout(Stdio::null())
            .stderr(Stdio::piped())
            .spawn();
        let Ok(mut tool) = tool else {
            return self.edit_ourselves(ldif).await;
        };
        let mut input = tool.stdin.take().context("no input")?;
        input.write_all(ldif.as_bytes()).await?;
        drop(input);
        let ended = tool.wait_with_output().await?;
        if !ended.status.success() {
            bail!(
                "ldapmodify failed: {}",
                String::from_utf8_lossy(&ended.stderr)
            );
        }
        Ok("ldapmodify")
    }

    async fn edit_ourselves(&self, ldif: &str) -> anyhow::Result<&'static str> {
        use std::collections::{HashMap, HashSet};
        let (connection, mut ldap) = ldap3::LdapConnAsync::new(self.stage.harbour.url()).await?;
        tokio::spawn(async move { connection.drive().await });
        let (admin, password) = self.stage.harbour.admin();
        ldap.simple_bind(admin, password).await?.success()?;
        for record in ldif
            .split("\n\n")
            .filter(|record| !record.trim().is_empty())
        {
            let lines: Vec<(&str, &str)> = record
                .lines()
                .filter_map(|line| line.split_once(": "))
                .collect();
            let get = |name: &str| {
                lines
                    .iter()
                    .find(|(key, _)| *key == name)
                    .map(|(_, value)| *value)
            };
            let dn = get("dn").context("an entry without a name")?;
            let result = match get("changetype") {
                Some("add") => {
                    let mut entry: HashMap<&str, HashSet<&str>> = HashMap::new();
                    for (name, value) in lines
                        .iter()
                        .filter(|(name, _)| !["dn", "changetype"].contains(name))
                    {
                        entry.entry(name).or_default().insert(value);
                    }
                    ldap.add(dn, entry.into_iter().collect()).await?
                }
                Some("modify") => {
                    let name = get("replace").context("nothing to replace")?;
                    let value = get(name).context("no value")?;
                    ldap.modify(dn, vec![ldap3::Mod::Replace(name, HashSet::from([value]))])
                        .await?
                }
                Some("modrdn") => {
                    ldap.modifydn(
                        dn,
                        get("newrdn").context("no name")?,
                        true,
                        get("newsuperior"),
                    )
                    .await?
                }
                Some("delete") => ldap.delete(dn).await?,
                other => bail!("the demo does not know the change {other:?}"),
            };
            result.success()?;
        }
        Ok("our own connection")
    }
}

/// The count of a code in one of a change set's lists, which is named after the field: `states`
/// lists `state`.
fn count(set: &Value, list: &str, code: &str) -> i64 {
    set[list]
        .as_array()
        .into_iter()
        .flatten()
        .find(|c| c[list.trim_end_matches('s')] == code)
        .and_then(|c| c["count"].as_i64())
        .unwrap_or(0)
}

/// A user as the mail service pushes it: a number and an address.
pub fn pushed(number: &str, mail: &str) -> Value {
    serde_json::json!({
        "schemas": [tide_scim::USER, tide_scim::ENTERPRISE], "userName": mail, "emails": [{"value": mail, "type": "work"}],
        (tide_scim::ENTERPRISE): {"employeeNumber": number},
    })
}

/// People without a complication of their own, to be changed by the story.
pub fn plain(people: &[Crew]) -> Vec<&Crew> {
    people
        .iter()
        .enumerate()
        .filter(|(n, p)| {
            n % 10 > 4
                && !p.locked
                && p.mail.ends_with("@skerry.example")
                && !p.number.is_empty()
                && ![66, 77, 95, 179, 180].contains(n)
        })
        .map(|(_, p)| p)
        .collect()
}

/// Plays the story. The exit code tells whether everything was as expected.
pub async fn check(stage: &Stage) -> anyhow::Result<ExitCode> {
    let begun = tide_clock::instant();
    let mut story = Story { stage, wrong: 0 };
    check_console(stage, &mut story).await?;

    check_systems(&mut story).await?;

    check_rules(&mut story).await?;

    let (preview, id) = check_preview(&mut story).await?;

    check_run(stage, &mut story, preview, id).await?;

    let (changed, deleted) = check_changes(stage, &mut story).await?;

    let training = stage.classroom.users();
    story.expect(
        "classroom",
        training.len() > 30
            && training.iter().all(|u| {
                u["userName"]
                    .as_str()
                    .is_some_and(|n| n.ends_with("@skerry.example"))
            }),
        format!(
            "{} of the deck have a training account, {} requests were asked to come later",
            training.len(),
            stage.classroom.turned_away()
        ),
    );

    check_pushed(stage, &mut story).await?;

    check_shrunk_file(stage, &mut story).await?;

    check_explanations(&mut story, changed, deleted).await?;

    println!(
        "\n{} in {:.0} s with {}",
        if story.wrong == 0 {
            "Everything is in sync".to_owned()
        } else {
            format!(
                "{} {} failed",
                story.wrong,
                if story.wrong == 1 { "check" } else { "checks" }
            )
        },
        begun.elapsed().as_secs_f32(),
        stage.harbour.name()
    );
    Ok(if story.wrong == 0 {
        ExitCode::SUCCESS
    } else {
        ExitCode::from(1)
    })
}

/// The console answers.
async fn check_console(stage: &Stage, story: &mut Story<'_>) -> anyhow::Result<()> {
    println!("\n1. The console answers");
    let page = reqwest::Client::builder()
        .tls_backend_rustls()
        .no_proxy()
        .build()?
        .get(&stage.url)
        .send()
        .await?;
    let status = page.status();
    let text = page.text().await?;
    story.expect(
        "console",
        status.is_success() && text.contains("Eager Tide"),
        format!("{} answers {status}", stage.url),
    );
    Ok(())
}

/// The systems are healthy, the quarantine and the scope are as made.
async fn check_systems(story: &mut Story<'_>) -> anyhow::Result<()> {
    println!("2. The systems are tested and healthy");
    let systems = story.json(&["systems", "list"]).await?;
    for system in systems.as_array().into_iter().flatten() {
        story.expect(
            system["name"].as_str().unwrap_or_default(),
            system["health"] == "healthy"
                && (system["accounts"].as_i64() > Some(0)
                    || ["classroom", "postroom"]
                        .iter()
                        .any(|n| system["name"] == *n)),
            format!(
                "healthy, {} accounts, {}",
                system["accounts"],
                if system["writable"] == serde_json::json!([]) {
                    "read-only"
                } else {
                    "writable"
                }
            ),
        );
    }
    let aside = story.json(&["systems", "quarantine", "roster"]).await?;
    story.expect(
        "rows in quarantine",
        aside.as_array().map(Vec::len) == Some(2),
        aside[0]["reason"].as_str().unwrap_or_default(),
    );
    let scope = story.json(&["scope", "harbour"]).await?;
    let totals: Vec<String> = scope["totals"]
        .as_array()
        .into_iter()
        .flatten()
        .map(|c| {
            format!(
                "{} {}",
                c["count"],
                c["status"].as_str().unwrap_or_default()
            )
        })
        .collect();
    story.expect(
        "scope of harbour",
        scope["totals"].as_array().is_some_and(|all| {
            all.iter()
                .any(|one| one["status"] == "out" && one["count"] == 9)
        }) && scope["counts"][0]["count"].as_i64() > Some(200),
        totals.join(", "),
    );
    Ok(())
}

/// The rules are published without faults.
async fn check_rules(story: &mut Story<'_>) -> anyhow::Result<()> {
    println!("3. The rules are there");
    let rules = story.json(&["rules", "show"]).await?;
    let outbound: usize = rules["systems"]
        .as_array()
        .into_iter()
        .flatten()
        .filter_map(|s| s["outbound"].as_array().map(Vec::len))
        .sum();
    story.expect(
        "rules",
        rules["faults"] == serde_json::json!([]) && outbound >= 12,
        format!(
            "version {}, {outbound} outbound mappings, no fault",
            rules["version"]
        ),
    );
    Ok(())
}

/// The preview shows the verdicts with reasons and writes nothing.
async fn check_preview(story: &mut Story<'_>) -> anyhow::Result<(Value, String)> {
    println!("4. The preview says what would happen, and writes nothing");
    story.writes();
    let preview = story.json(&["preview"]).await?;
    let verdicts: Vec<String> = preview["verdicts"]
        .as_array()
        .into_iter()
        .flatten()
        .map(|c| {
            format!(
                "{} {}",
                c["count"],
                c["verdict"].as_str().unwrap_or_default()
            )
        })
        .collect();
    story.expect(
        "verdicts",
        ["create", "join", "on_hold", "out_of_scope", "orphaned"]
            .iter()
            .all(|w| count(&preview, "verdicts", w) > 0),
        verdicts.join(", "),
    );
    let writes = story.writes();
    story.expect("writes", writes.is_empty(), writes.len());
    let id = preview["id"].to_string();
    let held = story
        .json(&["changes", "show", &id, "--verdict", "on-hold"])
        .await?;
    let reasons = held
        .as_array()
        .into_iter()
        .flatten()
        .filter(|l| l["reason"]["text"].as_str().is_some_and(|r| !r.is_empty()))
        .count();
    story.expect(
        "reasons",
        reasons > 4 && held.as_array().map(Vec::len) == Some(reasons),
        format!(
            "each of the {reasons} held has one, such as \"{}\"",
            held[0]["reason"]["text"].as_str().unwrap_or_default()
        ),
    );
    Ok((preview, id))
}

/// The run carries out the preview; a second one writes nothing.
async fn check_run(
    stage: &Stage,
    story: &mut Story<'_>,
    preview: Value,
    id: String,
) -> anyhow::Result<()> {
    println!("5. The run does it");
    let all = || {
        stage.berthing.users().len() + stage.berthing.groups().len() + stage.classroom.users().len()
    };
    let before = all();
    let started = tide_clock::instant();
    let run = story.json(&["run", "--preview", &id]).await?;
    let took = started.elapsed();
    let done = count(&run, "states", "done");
    story.expect(
        "changes",
        done > 0 && count(&run, "states", "failed") == 0,
        format!(
            "{done} done, {} failed, in {:.1} s ({:.0} people a second)",
            count(&run, "states", "failed"),
            took.as_secs_f32(),
            done as f32 / took.as_secs_f32()
        ),
    );
    let created = count(&preview, "verdicts", "create") as usize;
    story.expect(
        "no doubles",
        all() == before + created,
        format!("{before} accounts before, {created} created, {} now", all()),
    );
    story.writes();
    let started = tide_clock::instant();
    let again = story.json(&["run"]).await?;
    let writes = story.writes();
    story.expect(
        "second run",
        writes.is_empty() && again["state"] == "done",
        format!(
            "{} writes, in {:.1} s",
            writes.len(),
            started.elapsed().as_secs_f32()
        ),
    );
    Ok(())
}

/// Edits of the directory reach the service. Returns who was changed and who was deleted.
async fn check_changes<'a>(
    stage: &'a Stage,
    story: &mut Story<'_>,
) -> anyhow::Result<(&'a Crew, &'a Crew)> {
    println!("6. The directory changes, and the service follows");
    let plain = plain(&stage.people);
    let [changed, renamed, moved, deleted] = [plain[0], plain[1], plain[2], plain[3]];
    let renamed_id = stage.berthing.user(&renamed.mail).map(|u| u["id"].clone());
    let with = story
        .edit(&format!(
            "dn: uid=tove.quay,ou=Deck,ou=people,{BASE}\nchangetype: add\nobjectClass: inetOrgPerson\nuid: tove.quay\ncn: Tove Quay\nsn: Quay\ngivenName: Tove\nemployeeNumber: 7001\nmail: Tove.Quay@Skerry.Example\ndepartmentNumber: 10\n\n\
             dn: {}\nchangetype: modify\nreplace: title\ntitle: Harbour Master\n\n\
             dn: {}\nchangetype: modify\nreplace: mail\nmail: newly.wed@skerry.example\n\n\
             dn: {}\nchangetype: modrdn\nnewrdn: uid=newly.wed\ndeleteoldrdn: 1\n\n\
             dn: {}\nchangetype: modrdn\nnewrdn: uid={}\ndeleteoldrdn: 1\nnewsuperior: ou=former,{BASE}\n\n\
             dn: {}\nchangetype: delete\n",
            changed.dn(), renamed.dn(), renamed.dn(), moved.dn(), moved.uid, deleted.dn()
        ))
        .await?;
    let gone: Vec<String> = [moved, deleted]
        .iter()
        .map(|p| format!("{};", p.number))
        .collect();
    let text = std::fs::read_to_string(&stage.roster)?;
    let kept: Vec<&str> = text
        .lines()
        .filter(|line| !gone.iter().any(|number| line.starts_with(number)))
        .collect();
    std::fs::write(&stage.roster, kept.join("\n") + "\n")?;
    println!(
        "   (edited with {with}: one added, one changed, one renamed, one moved out of scope, one deleted)"
    );
    let run = story.json(&["run"]).await?;
    story.expect(
        "changes",
        count(&run, "states", "done") >= 5 && count(&run, "states", "failed") == 0,
        format!("{} done", count(&run, "states", "done")),
    );
    let user = |mail: &str| stage.berthing.user(mail);
    story.expect(
        "added",
        user("tove.quay@skerry.example").is_some(),
        "Tove Quay has an account",
    );
    let title = user(&changed.mail)
        .map(|u| u["title"].to_string())
        .unwrap_or_default();
    story.expect(
        "changed",
        title.contains("Harbour Master"),
        format!("title is {title}"),
    );
    let same = user("newly.wed@skerry.example").map(|u| u["id"].clone());
    story.expect(
        "renamed",
        same.is_some() && same == renamed_id,
        format!("the account keeps its id {}", same.unwrap_or_default()),
    );
    for (what, leaver) in [("moved out", moved), ("deleted", deleted)] {
        let active = user(&leaver.mail).map(|u| u["active"].clone());
        story.expect(
            what,
            active == Some(Value::Bool(false)),
            format!("active is {}", active.unwrap_or_default()),
        );
    }
    story.writes();
    story.json(&["run"]).await?;
    let writes = story.writes();
    story.expect(
        "second run",
        writes.is_empty(),
        format!("{} writes", writes.len()),
    );
    Ok((changed, deleted))
}

/// An address that the mail service pushes releases a person on hold.
async fn check_pushed(stage: &Stage, story: &mut Story<'_>) -> anyhow::Result<()> {
    println!("   A person waits for an address; the mail service pushes one");
    let waiting = story
        .json(&[
            "scope",
            "harbour",
            "--status",
            "on-hold",
            "--search",
            "waiting for a value of mail",
        ])
        .await?;
    let account = waiting["lines"][0]["account"]
        .as_str()
        .unwrap_or_default()
        .to_owned();
    let person = stage
        .people
        .iter()
        .find(|p| p.dn() == account)
        .context("no person waits for an address")?;
    let answer = reqwest::Client::builder()
        .tls_backend_rustls()
        .no_proxy()
        .build()?
        .post(format!("{}/scim/v2/postroom/Users", stage.url))
        .bearer_auth(&stage.postroom)
        .header("content-type", "application/scim+json")
        .body(pushed(&person.number, "came.late@skerry.example").to_string())
        .send()
        .await?;
    story.expect(
        "pushed",
        answer.status() == 201,
        format!("{} for {}", answer.status(), person.family),
    );
    story.json(&["run"]).await?;
    story.expect(
        "is sent automatically",
        story
            .stage
            .berthing
            .user("came.late@skerry.example")
            .is_some(),
        "the account is there",
    );
    Ok(())
}

/// A shrunk file is rejected, and no account counts as absent.
async fn check_shrunk_file(stage: &Stage, story: &mut Story<'_>) -> anyhow::Result<()> {
    println!("   A bad roster arrives");
    let whole = std::fs::read_to_string(&stage.roster)?;
    std::fs::write(
        &stage.roster,
        whole.lines().take(40).collect::<Vec<_>>().join("\n") + "\n",
    )?;
    let (code, text) = story.client(&["systems", "read", "roster"]).await?;
    story.expect(
        "a shrunk file",
        code == 1 && text.contains("so it is rejected"),
        line_with(&text, "roster"),
    );
    std::fs::write(&stage.roster, whole)?;
    story.writes();
    story.json(&["run"]).await?;
    let writes = story.writes();
    story.expect(
        "no account counts as absent",
        writes.is_empty(),
        format!("{} writes", writes.len()),
    );
    Ok(())
}

/// The client explains people, and the journal is intact.
async fn check_explanations(
    story: &mut Story<'_>,
    changed: &Crew,
    deleted: &Crew,
) -> anyhow::Result<()> {
    println!("7. Why is it so?");
    let (code, text) = story.client(&["why", &changed.number]).await?;
    story.expect(
        "why the changed one",
        code == 0 && text.contains("Harbour Master") && text.contains("berthing.toml"),
        first_lines(&text, 1),
    );
    let (code, text) = story.client(&["why", &deleted.number]).await?;
    story.expect(
        "why the deleted one",
        code == 0 && text.contains("harbour no longer contains"),
        line_with(&text, "reason"),
    );
    let (code, text) = story.client(&["why", "kiosk1"]).await?;
    story.expect(
        "why there is none",
        code == 0 && text.contains("its container is excluded"),
        line_with(&text, "reason"),
    );
    let (code, text) = story.client(&["why", "no-such-person"]).await?;
    story.expect(
        "a wrong name",
        code == 1 && text.contains("no person or account matches"),
        first_lines(&text, 1),
    );
    let journal = story.json(&["journal", "check"]).await?;
    story.expect(
        "journal",
        journal["is_intact"] == true,
        format!("{} entries, each as it was written", journal["entry"]),
    );
    Ok(())
}

fn first_lines(text: &str, count: usize) -> String {
    text.lines().take(count).collect::<Vec<_>>().join(" / ")
}

fn line_with(text: &str, word: &str) -> String {
    text.lines()
        .map(str::trim)
        .find(|line| line.starts_with(word))
        .unwrap_or_default()
        .to_owned()
}
