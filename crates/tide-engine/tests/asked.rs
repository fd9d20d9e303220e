//! Approvals, reported drift, targets that queue, and previews of targets: against stand-ins.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]

#[allow(dead_code)]
mod common;

use common::{Tide, count, edit, set};
use std::time::Duration;
use tide_core::rules::RuleFile;
use tide_core::states::{DecisionAnswer, PrincipalKind};
use tide_core::{ObjectType, Reason, ReasonCode};
use tide_engine::{Decision, EngineError, Plan};
use tide_standins::scim_service::Mischief;
use tide_standins::{eventually, world};

/// The demo's rules with some files changed or added.
fn files(changed: &[(&str, &str, &str)], added: &[(&str, &str)]) -> Vec<RuleFile> {
    let mut files: Vec<RuleFile> = world::rules_of_people()
        .into_iter()
        .map(|(name, text)| RuleFile {
            name: name.into(),
            text,
        })
        .collect();
    for (name, from, to) in changed {
        let file = files
            .iter_mut()
            .find(|file| file.name == *name)
            .expect("there");
        assert!(
            file.text.contains(from),
            "{name} has no {from}: {}",
            file.text
        );
        file.text = file.text.replacen(from, to, 1);
    }
    files.extend(added.iter().map(|(name, text)| RuleFile {
        name: (*name).into(),
        text: (*text).into(),
    }));
    files
}

async fn decisions(tide: &Tide, kind: &str, principal: &str) -> Vec<Decision> {
    tide.engine
        .decisions()
        .list_decisions(principal)
        .await
        .expect("listed")
        .into_iter()
        .filter(|one| one.kind.as_str() == kind)
        .collect()
}

async fn operator(tide: &Tide, name: &str, groups: &[&str]) -> String {
    let groups: Vec<String> = groups.iter().map(|group| (*group).to_owned()).collect();
    tide.engine
        .operators()
        .add_operator(name, &groups, None, "tester")
        .await
        .expect("added");
    tide.engine
        .store()
        .find_operator(name)
        .await
        .expect("there")
        .id
}

const APPROVALS: &str = r#"
[[approval]]
name = "titles"
system = "berthing"
change = "update"
[[approval.level]]
operators = ["ada"]
[[approval.level]]
groups = ["harbour masters"]
"#;

/// A title changes in the directory; what happens to it in the service waits for a yes.
async fn titled(tide: &Tide, at: usize, title: &str) -> String {
    let person = tide
        .people
        .iter()
        .enumerate()
        .filter(|(n, p)| n % 10 > 3 && !p.locked && !p.mail.is_empty())
        .nth(at)
        .expect("there")
        .1;
    let mut ldap = edit(tide).await;
    ldap.modify(&person.dn(), vec![ldap3::Mod::Replace("title", set(title))])
        .await
        .expect("sent")
        .success()
        .expect("accepted");
    person.mail.clone()
}

const MASTERS: [&str; 1] = ["harbour masters"];

/// The operators ada, bo and cy, of which bo is a harbour master, and rules by which both ada and a
/// harbour master approve a title.
async fn start_with_two_levels() -> (Tide, [String; 3]) {
    let tide = Tide::writable().await;
    let operators = [
        operator(&tide, "ada", &[]).await,
        operator(&tide, "bo", &MASTERS).await,
        operator(&tide, "cy", &[]).await,
    ];
    tide.run().await;
    tide.engine
        .administration()
        .publish_rules(&files(&[], &[("approvals.toml", APPROVALS)]), "tester")
        .await
        .expect("published");
    (tide, operators)
}

async fn answer(
    tide: &Tide,
    decision: &Decision,
    answer: DecisionAnswer,
    comment: &str,
    principal: &str,
) -> Result<(), EngineError> {
    let answered = tide
        .engine
        .decisions()
        .answer_decision(&decision.id, answer, comment, principal)
        .await;
    answered.map(drop)
}

async fn approve(tide: &Tide, decision: &Decision, principal: &str) {
    answer(tide, decision, DecisionAnswer::Approve, "", principal)
        .await
        .expect("answered");
}

async fn first_hold(tide: &Tide, set: &tide_store::ChangeSetRow) -> Reason {
    let held = tide.changes(set, Some("on_hold")).await;
    held[0].change.hold.clone().expect("held")
}

async fn pending(tide: &Tide) -> Vec<tide_store::ApprovalRow> {
    tide.engine.store().list_approvals().await.expect("read")
}
#[tokio::test]
async fn a_run_requests_an_approval_and_a_preview_does_not() {
    let (tide, [_, _, cy]) = start_with_two_levels().await;
    titled(&tide, 0, "Commodore").await;
    tide.go(Plan::default()).await;
    assert_eq!(pending(&tide).await.len(), 0);
    let held = tide.run().await;
    assert_eq!(
        (count(&held.states, "on_hold"), count(&held.states, "done")),
        (1, 0)
    );
    let hold = first_hold(&tide, &held).await;
    assert_eq!(
        hold.to_string(),
        "awaiting approval (titles): level 1 of 2, ada"
    );
    assert_eq!(
        hold.rule.map(|place| (place.file, place.line)),
        Some(("approvals.toml".into(), 2))
    );

    let asked = decisions(&tide, "approval", &cy).await;
    assert_eq!(asked.len(), 1, "{asked:?}");
    assert_eq!(
        (asked[0].answers.clone(), asked[0].blocked.as_deref()),
        (
            vec![DecisionAnswer::Approve, DecisionAnswer::Reject],
            Some("this level is for ada")
        )
    );
    let refused = answer(&tide, &asked[0], DecisionAnswer::Approve, "", &cy).await;
    assert!(
        matches!(refused, Err(EngineError::Forbidden(_))),
        "not theirs: {refused:?}"
    );
}

#[tokio::test]
async fn a_change_is_sent_after_every_level_approved() {
    let (tide, [ada, bo, _]) = start_with_two_levels().await;
    let mail = titled(&tide, 0, "Commodore").await;
    let title = || tide.berthing.user(&mail).expect("there")["title"].clone();
    tide.run().await;
    let first = decisions(&tide, "approval", &ada).await.remove(0);
    assert_eq!(first.blocked, None);
    answer(
        &tide,
        &first,
        DecisionAnswer::Approve,
        "seen the papers",
        &ada,
    )
    .await
    .expect("answered");
    // The second level is another decision, and the first can no longer be answered.
    let second = decisions(&tide, "approval", &bo).await.remove(0);
    assert!(
        second
            .said
            .contains("level 2 of 2, one of harbour masters; approved by ada"),
        "{second:?}"
    );
    let again = answer(&tide, &first, DecisionAnswer::Approve, "", &ada).await;
    assert!(again.is_err());
    assert_eq!(
        decisions(&tide, "approval", &ada).await[0]
            .blocked
            .as_deref(),
        Some("you have answered an earlier level")
    );
    tide.run().await;
    assert_ne!(title(), "Commodore", "one approval of two");
    approve(&tide, &second, &bo).await;
    let sent = tide.run().await;
    assert_eq!(count(&sent.states, "done"), 1);
    assert_eq!(title(), "Commodore");
    assert_eq!(
        pending(&tide).await.len(),
        0,
        "approved once, for one change"
    );
    let journal = tide
        .engine
        .store()
        .list_journal(None, None, 1000)
        .await
        .expect("read");
    assert!(format!("{journal:?}").contains("level 1 of titles: seen the papers"));
}

/// Of two who answer the same level at the same time, the later answer is not one for the next level.
#[tokio::test]
async fn a_late_answer_does_not_count_for_the_next_level() {
    let (tide, [ada, _, cy]) = start_with_two_levels().await;
    titled(&tide, 0, "Commodore").await;
    tide.run().await;
    let first = decisions(&tide, "approval", &ada).await.remove(0);
    approve(&tide, &first, &ada).await;
    let row = pending(&tide).await.remove(0);
    let yes = tide_store::Answered {
        fingerprint: row.fingerprint,
        identity: row.identity,
        yes: true,
        comment: String::new(),
    };
    let late = tide
        .engine
        .store()
        .answer_approval(vec![yes], 0, &cy, tide.engine.now())
        .await;
    assert!(late.is_err_and(|error| error.to_string().contains("answer for level")));
}

#[tokio::test]
async fn requesters_cannot_approve() {
    let (tide, [ada, ..]) = start_with_two_levels().await;
    titled(&tide, 1, "Commodore").await;
    let id = tide
        .engine
        .runner()
        .begin_change_set(
            Plan {
                carry_out: true,
                ..Plan::default()
            },
            &ada,
        )
        .await
        .expect("begins");
    tide.ended(id).await;
    let own = decisions(&tide, "approval", &ada).await.remove(0);
    assert_eq!(
        own.blocked.as_deref(),
        Some("operators cannot approve a change that they requested")
    );
    let refused = answer(&tide, &own, DecisionAnswer::Approve, "", &ada).await;
    assert!(matches!(refused, Err(EngineError::Forbidden(_))));
}

#[tokio::test]
async fn a_rejection_holds_while_the_change_stays_the_same() {
    let (tide, [_, bo, cy]) = start_with_two_levels().await;
    let mail = titled(&tide, 1, "Commodore").await;
    tide.run().await;
    tide.engine
        .operators()
        .set_operator("cy", &["harbour masters".into()], None, "tester")
        .await
        .expect("set");
    let again = files(
        &[],
        &[(
            "approvals.toml",
            &APPROVALS.replace("operators = [\"ada\"]", "operators = [\"cy\"]"),
        )],
    );
    tide.engine
        .administration()
        .publish_rules(&again, "tester")
        .await
        .expect("published");
    let own = decisions(&tide, "approval", &cy).await.remove(0);
    answer(&tide, &own, DecisionAnswer::Reject, "no such rank", &cy)
        .await
        .expect("answered");
    let after = tide.run().await;
    let hold = first_hold(&tide, &after).await;
    assert_eq!(
        hold.to_string(),
        "rejected by cy (“no such rank”): not sent while it stays the same"
    );
    assert_eq!(decisions(&tide, "approval", &bo).await, vec![]);
    assert_ne!(
        tide.berthing.user(&mail).expect("there")["title"],
        "Commodore"
    );
}

/// One approval for all changes of a run, within a day. Returns the operator and the first run.
async fn start_with_batch_approval() -> (Tide, String, tide_store::ChangeSetRow) {
    let tide = Tide::writable().await;
    let rules = r#"
[[approval]]
name = "everything at once"
mode = "batch"
expires_after_days = 1
remind_every_days = 1
webhook = "desk"
[[approval.level]]
groups = ["harbour masters"]
"#;
    let calls = "[desk]\nurl = \"http://127.0.0.1:9/asked\"\n";
    let bo = operator(&tide, "bo", &MASTERS).await;
    tide.engine
        .administration()
        .publish_rules(
            &files(&[], &[("approvals.toml", rules), ("webhooks.toml", calls)]),
            "tester",
        )
        .await
        .expect("published");
    let run = tide.run().await;
    (tide, bo, run)
}

/// Rewrites the pending approvals as if they had been requested at another time.
async fn request_again(tide: &Tide, hours_ago: i64, hours_to_expiry: i64, is_reminded: bool) {
    let requested = tide.engine.now() - jiff::SignedDuration::from_hours(hours_ago);
    let rows = pending(tide).await;
    let new = rows
        .iter()
        .map(|row| tide_store::NewApproval {
            fingerprint: row.fingerprint.clone(),
            rule: row.rule.clone(),
            system: "berthing".into(),
            kind: "create".into(),
            identity: row.identity.clone(),
            label: "somebody".into(),
            expires: requested + jiff::SignedDuration::from_hours(hours_to_expiry),
            remind: is_reminded.then_some(requested),
        })
        .collect();
    let replaced = rows.into_iter().map(|row| row.fingerprint).collect();
    tide.engine
        .store()
        .request_approvals(new, replaced, None, "tester", requested)
        .await
        .expect("kept");
}

#[tokio::test]
async fn a_batch_approval_is_one_decision_about_the_whole_run() {
    let (tide, bo, run) = start_with_batch_approval().await;
    assert_eq!(count(&run.states, "done"), 0, "the whole run waits");
    let told = tide
        .engine
        .notifier()
        .list_notifications(None, true)
        .await
        .expect("read");
    let waits = format!(
        "and {} more changes awaiting approval (everything at once)",
        count(&run.states, "on_hold") - 1
    );
    assert!(
        told.len() == 1
            && told[0].text.ends_with(&waits)
            && told[0].call.as_deref() == Some("desk"),
        "{told:?}"
    );
    assert_eq!(
        (told[0].event.as_str(), &told[0].recipients[0]["group"]),
        ("awaiting_approval", &serde_json::json!("harbour masters"))
    );
    let asked = decisions(&tide, "approval", &bo).await;
    assert_eq!(asked.len(), 1, "it is asked once for all: {asked:?}");
    assert_eq!(asked[0].count as i64, count(&run.states, "on_hold"));
    approve(&tide, &asked[0], &bo).await;
    assert!(count(&tide.run().await.states, "done") > 20);
}

#[tokio::test]
async fn an_approver_is_reminded_once() {
    let (tide, bo, run) = start_with_batch_approval().await;
    request_again(&tide, 12, 24, true).await;
    tide.run().await;
    tide.run().await;
    let reminders = decisions(&tide, "reminder", &bo).await;
    assert_eq!(reminders.len(), 1, "{reminders:?}");
    let others = count(&run.states, "on_hold") - 1;
    // The webhook is called once, too.
    let texts: Vec<String> = tide
        .engine
        .notifier()
        .list_notifications(None, true)
        .await
        .expect("read")
        .into_iter()
        .map(|one| one.text)
        .collect();
    assert_eq!(
        texts
            .iter()
            .filter(|text| text.contains("still awaiting approval"))
            .count(),
        1,
        "{texts:?}"
    );
    assert_eq!(
        reminders[0].title,
        format!("still awaiting approval (everything at once): somebody and {others} more")
    );
}

#[tokio::test]
async fn an_expired_request_can_be_reopened() {
    let (tide, bo, _) = start_with_batch_approval().await;
    request_again(&tide, 48, 0, false).await;
    let expired = decisions(&tide, "approval", &bo).await.remove(0);
    assert_eq!(expired.answers, [DecisionAnswer::Reopen], "{expired:?}");
    let late = answer(&tide, &expired, DecisionAnswer::Approve, "", &bo).await;
    assert!(late.is_err(), "too late");
    let late = tide.run().await;
    let hold = first_hold(&tide, &late).await;
    assert_eq!(hold.code(), ReasonCode::ApprovalExpired);
    answer(&tide, &expired, DecisionAnswer::Reopen, "", "tester")
        .await
        .expect("reopened");
    tide.run().await;
    let anew = decisions(&tide, "approval", &bo).await.remove(0);
    assert_eq!(
        anew.answers,
        [DecisionAnswer::Approve, DecisionAnswer::Reject]
    );
}

#[tokio::test]
async fn external_changes_are_reported_only_until_an_operator_repairs_them() {
    let tide = Tide::writable().await;
    let reporting = files(
        &[(
            "berthing.toml",
            "on_out_of_scope = \"disable\"",
            "on_out_of_scope = \"disable\"\non_drift = \"report\"",
        )],
        &[],
    );
    tide.engine
        .administration()
        .publish_rules(&reporting, "tester")
        .await
        .expect("published");
    tide.run().await;
    tide.berthing.take_writes();
    let mail = tide
        .people
        .iter()
        .enumerate()
        .find(|(n, p)| n % 10 > 3 && !p.locked && !p.mail.is_empty())
        .expect("there")
        .1
        .mail
        .clone();
    let mail = mail.to_lowercase();
    let title = tide.berthing.user(&mail).expect("there")["title"].clone();
    tide.berthing
        .tamper(&mail, |user| user["title"] = "Pirate".into());
    for _ in 0..2 {
        let run = tide.run().await;
        let held = tide.changes(&run, Some("on_hold")).await;
        assert_eq!(held.len(), 1, "{held:?}");
        assert_eq!(
            held[0].change.hold.as_ref().map(Reason::code),
            Some(ReasonCode::DriftReported)
        );
        assert_eq!(tide.berthing.take_writes(), Vec::<String>::new());
    }
    // Somebody changes more of it: the first is still known for what it is.
    tide.berthing
        .tamper(&mail, |user| user["displayName"] = "Long John".into());
    tide.run().await;
    assert_eq!(tide.berthing.take_writes(), Vec::<String>::new());
    let told = decisions(&tide, "drift", "tester").await;
    assert_eq!(told.len(), 1, "{told:?}");
    assert!(told[0].said.contains("title is Pirate and was"), "{told:?}");
    let noted = tide.engine.store().list_alerts().await.expect("read");
    assert!(
        noted.iter().any(|notice| notice
            .body
            .contains("reported only, until an operator chooses repair")),
        "{noted:?}"
    );
    tide.engine
        .decisions()
        .answer_decision(&told[0].id, DecisionAnswer::Repair, "", "tester")
        .await
        .expect("answered");
    tide.run().await;
    assert_eq!(tide.berthing.user(&mail).expect("there")["title"], title);
    // What changes at its source goes on as ever.
    let other = titled(&tide, 3, "Bosun").await;
    tide.run().await;
    assert_eq!(tide.berthing.user(&other).expect("there")["title"], "Bosun");
    assert_eq!(decisions(&tide, "drift", "tester").await, vec![]);
}

/// Another process goes on asking until nothing of a run is in a system's queue.
async fn asked_by_another(tide: &Tide, run: i64) -> tide_store::ChangeSetRow {
    let engine = tide.again();
    engine.start_automatic_sync();
    let settled = eventually(Duration::from_secs(30), async || {
        let set = tide.engine.store().change_set(run).await.expect("read");
        (count(&set.states, "accepted") == 0).then_some(set)
    })
    .await
    .expect("nothing stays in the queue");
    engine.stop().await;
    settled
}

#[tokio::test]
async fn a_request_that_a_service_queues_is_followed_until_it_is_done_and_nothing_is_sent_twice() {
    let tide = Tide::writable().await;
    tide.run().await;
    let first = titled(&tide, 0, "Harbour Pilot").await;
    let second = titled(&tide, 1, "Harbour Pilot").await;
    tide.berthing.take_writes();
    tide.berthing
        .mischief_on_writes(&[Mischief::Queue, Mischief::QueueAndFail]);
    let run = tide.run().await;
    assert_eq!(
        (run.state.as_str(), count(&run.states, "accepted")),
        ("done", 2),
        "{:?}",
        run.states
    );
    // Nothing is sent again while the service has it.
    let again = tide.run().await;
    let held = tide.changes(&again, Some("on_hold")).await;
    assert!(
        held.iter().all(|c| c
            .change
            .hold
            .as_ref()
            .is_some_and(|hold| hold.code() == ReasonCode::QueuedThere)),
        "{held:?}"
    );
    assert_eq!(tide.berthing.take_writes().len(), 2);
    let settled = asked_by_another(&tide, run.id).await;
    assert_eq!(
        (
            count(&settled.states, "done"),
            count(&settled.states, "failed")
        ),
        (1, 1),
        "{:?}",
        settled.states
    );
    let titles: Vec<_> = [&first, &second]
        .iter()
        .map(|mail| tide.berthing.user(mail).expect("there")["title"].clone())
        .collect();
    assert_eq!(
        titles
            .iter()
            .filter(|title| *title == "Harbour Pilot")
            .count(),
        1,
        "{titles:?}"
    );
    let failed = tide.changes(&settled, Some("failed")).await;
    assert!(
        failed[0]
            .error
            .as_deref()
            .is_some_and(|e| e.contains("the berth planner does not take this")),
        "{failed:?}"
    );
    assert_eq!(
        tide.berthing.take_writes().len(),
        0,
        "asking writes nothing"
    );
}

#[tokio::test]
async fn a_deletion_that_a_service_queues_is_followed_until_the_account_is_gone() {
    let tide = Tide::writable().await;
    let steps = "[[person.departure]]\nstep = \"delete\"\n\n[person.outbound]";
    tide.engine
        .administration()
        .publish_rules(
            &files(&[("berthing.toml", "[person.outbound]", steps)], &[]),
            "tester",
        )
        .await
        .expect("published");
    tide.run().await;
    let person = tide
        .people
        .iter()
        .enumerate()
        .find(|(n, p)| n % 10 > 3 && !p.locked && !p.mail.is_empty())
        .expect("there")
        .1;
    let mail = person.mail.to_lowercase();
    let found = tide
        .engine
        .store()
        .list_identities(&mail, None, None, 2)
        .await
        .expect("read");
    let id = found[0].identity.id.clone();
    tide.berthing.take_writes();
    tide.berthing.mischief_on_writes(&[Mischief::Queue]);
    // Nobody follows anything here: a run about this person alone begins.
    tide.engine
        .runner()
        .start_departure(&id, None, "", "tester", "tester")
        .await
        .expect("begins");
    let run = tide
        .engine
        .store()
        .change_sets(None, None, false, 1)
        .await
        .expect("read")
        .remove(0);
    let run = tide.ended(run.id).await;
    assert_eq!(count(&run.states, "accepted"), 1, "{:?}", run.states);
    let settled = asked_by_another(&tide, run.id).await;
    assert_eq!(count(&settled.states, "done"), 1, "{:?}", settled.states);
    assert!(tide.berthing.user(&mail).is_none());
    let writes = tide.berthing.take_writes();
    assert!(
        writes.len() == 1 && writes[0].starts_with("DELETE"),
        "{writes:?}"
    );
    // Gone there by us: it is not taken for somebody else's doing, and made anew when they are
    // back.
    assert_eq!(count(&tide.run().await.states, "done"), 0);
    tide.engine
        .runner()
        .cancel_departure(&id, "tester")
        .await
        .expect("taken back");
    let run = tide
        .engine
        .store()
        .change_sets(None, None, false, 1)
        .await
        .expect("read")
        .remove(0);
    tide.ended(run.id).await;
    assert!(
        tide.berthing.user(&mail).is_some(),
        "{:#?}",
        tide.engine.views().explain_person(&mail).await
    );
}

#[tokio::test]
async fn a_target_that_wants_managers_first_gets_them_first() {
    let tide = Tide::start(60).await;
    let plain = "\"enterprise.manager.value\"  = 'identity.manager'";
    let first =
        "\"enterprise.manager.value\" = { value = 'identity.manager', wait_for_target = true }";
    let rules: Vec<RuleFile> = world::rules()
        .into_iter()
        .map(|(name, text)| RuleFile {
            name: name.into(),
            text: text.replace(plain, first),
        })
        .collect();
    assert!(rules.iter().any(|file| file.text.contains(first)));
    tide.engine
        .administration()
        .publish_rules(&rules, "tester")
        .await
        .expect("published");
    let writable = tide_engine::SystemUpdate {
        writable: Some(vec![ObjectType::Person]),
        armed: Some(true),
        ..Default::default()
    };
    tide.engine
        .administration()
        .set_system("berthing", writable, "tester")
        .await
        .expect("set");
    tide.berthing.refuse_unknown_managers();
    let run = tide.run().await;
    assert_eq!(
        count(&run.states, "failed"),
        0,
        "{:#?}",
        tide.changes(&run, Some("failed")).await
    );
    let created = tide.changes(&run, Some("create")).await;
    let with = created.iter().filter(|row| {
        row.change
            .values
            .iter()
            .any(|v| v.attribute == "enterprise.manager.value" && !v.after.is_empty())
    });
    assert!(with.count() > 5, "many are made with their manager");
    // Circles are cut, and what was cut is set by the next run.
    tide.run().await;
    let last = tide.run().await;
    assert_eq!(
        tide.changes(&last, None)
            .await
            .iter()
            .filter(|row| row.change.hold.is_none())
            .count(),
        0,
        "it comes to rest"
    );
}

#[tokio::test]
async fn a_run_can_be_limited_to_one_system_or_type() {
    let tide = Tide::writable().await;
    let wrong = tide
        .engine
        .runner()
        .begin_change_set(
            Plan {
                systems: vec!["nowhere".into()],
                ..Plan::default()
            },
            "tester",
        )
        .await;
    assert!(wrong.is_err_and(|error| error.to_string().contains("nowhere")));
    let groups = tide
        .go(Plan {
            carry_out: true,
            types: vec![ObjectType::Group],
            ..Plan::default()
        })
        .await;
    assert_eq!(tide.changes(&groups, None).await.len(), 0);
    assert_eq!(
        groups.note.as_deref(),
        Some("Only what is done to accounts of type group.")
    );
    let only = tide
        .go(Plan {
            systems: vec!["berthing".into()],
            ..Plan::default()
        })
        .await;
    assert!(tide.lines(&only, "source").await.is_empty() && count(&only.verdicts, "create") > 20);
}

/// Tomorrow, nothing is written.
#[tokio::test]
async fn a_preview_of_another_day_knows_its_write_blackouts_and_cannot_be_run() {
    let tide = Tide::writable().await;
    tide.engine.ingest().read_all().await.expect("read");
    let tomorrow = tide.engine.now() + jiff::SignedDuration::from_hours(24);
    let day = tomorrow.to_zoned(jiff::tz::TimeZone::UTC).date();
    let window = tide_engine::Blackout {
        days: vec![format!("{:?}", day.weekday()).to_lowercase()[..3].to_owned()],
        from: "00:00".into(),
        to: "23:59".into(),
        zone: "UTC".into(),
    };
    let schedule = tide_engine::Schedule {
        write_blackouts: vec![window],
        ..Default::default()
    };
    tide.engine
        .administration()
        .set_schedule("berthing", &schedule, "tester")
        .await
        .expect("set");
    let noon = day
        .at(12, 0, 0, 0)
        .to_zoned(jiff::tz::TimeZone::UTC)
        .expect("a moment")
        .timestamp();
    let then = tide
        .go(Plan {
            as_of: Some(noon),
            without_reading: true,
            ..Plan::default()
        })
        .await;
    assert!(
        count(&then.states, "proposed") == 0 && count(&then.states, "on_hold") > 20,
        "{:?}",
        then.states
    );
    assert!(
        then.as_of
            .is_some_and(|at| at.starts_with(&day.to_string()))
            && then.note.is_some_and(|n| n.contains("As decided"))
    );
    let now = tide
        .go(Plan {
            without_reading: true,
            ..Plan::default()
        })
        .await;
    assert!(count(&now.states, "proposed") > 20);
    let bound = tide
        .engine
        .runner()
        .begin_change_set(
            Plan {
                carry_out: true,
                preview: Some(then.id),
                ..Plan::default()
            },
            "tester",
        )
        .await;
    assert!(bound.is_err_and(|error| error.to_string().contains("create a preview as of now")));
    let run = tide
        .engine
        .runner()
        .begin_change_set(
            Plan {
                carry_out: true,
                as_of: Some(noon),
                ..Plan::default()
            },
            "tester",
        )
        .await;
    assert!(run.is_err_and(|error| error.to_string().contains("only be previewed")));
}

/// Three operators who may all approve a title.
async fn start_with_approvers() -> (Tide, [String; 3]) {
    let tide = Tide::writable().await;
    let operators = [
        operator(&tide, "ada", &MASTERS).await,
        operator(&tide, "bo", &MASTERS).await,
        operator(&tide, "cy", &MASTERS).await,
    ];
    tide.run().await;
    (tide, operators)
}

const ONE_LEVEL: &str = r#"
[[approval]]
name = "titles"
system = "berthing"
change = "update"
[[approval.level]]
groups = ["harbour masters"]
"#;

async fn publish_one_level(tide: &Tide, principal: &str) {
    tide.engine
        .administration()
        .publish_rules(&files(&[], &[("approvals.toml", ONE_LEVEL)]), principal)
        .await
        .expect("published");
}

/// Why an operator cannot answer each of the pending approvals.
async fn blocked(tide: &Tide, who: &str) -> Vec<Option<String>> {
    let asked = decisions(tide, "approval", who).await;
    asked.into_iter().map(|one| one.blocked).collect()
}

async fn assert_blocked(tide: &Tide, who: &str, reason: &str) {
    let blocked = blocked(tide, who).await;
    let why = blocked[0].as_deref();
    assert!(why.is_some_and(|why| why.contains(reason)), "{why:?}");
}

/// Ada publishes the rules that ask for approval of a pending change.
#[tokio::test]
async fn a_publisher_cannot_approve_what_the_new_rules_ask_for() {
    let (tide, [ada, bo, _]) = start_with_approvers().await;
    let mail = titled(&tide, 0, "Commodore").await;
    publish_one_level(&tide, &ada).await;
    tide.run().await;
    assert_eq!(blocked(&tide, &bo).await, [None]);
    assert_blocked(&tide, &ada, "you published the rules").await;
    // She is not the cause of a change that comes later.
    let first = decisions(&tide, "approval", &bo).await.remove(0);
    approve(&tide, &first, &bo).await;
    tide.run().await;
    assert_eq!(
        tide.berthing.user(&mail).expect("there")["title"],
        "Commodore"
    );
    titled(&tide, 1, "Commodore").await;
    tide.engine.runner().run_once().await.expect("decides");
    tide.run().await;
    assert_eq!(blocked(&tide, &ada).await, [None]);
}

async fn grant_role(tide: &Tide, mail: &str, principal: &str) {
    let found = tide
        .engine
        .views()
        .explain_person(mail)
        .await
        .expect("found");
    let grant = tide_core::model::RoleGrant {
        identity: found[0].identity.clone().expect("kept"),
        role: "captain".into(),
        from: None,
        until: None,
        principal: principal.to_owned(),
    };
    tide.engine
        .store()
        .give_role(grant, "", principal, tide.engine.now())
        .await
        .expect("given");
}

/// Cy grants a role to the person; then the service runs.
#[tokio::test]
async fn who_granted_a_role_cannot_approve_its_changes_nor_make_another_approver() {
    let (tide, [_, bo, cy]) = start_with_approvers().await;
    publish_one_level(&tide, "tester").await;
    let mail = titled(&tide, 1, "Commodore").await;
    grant_role(&tide, &mail, &cy).await;
    tide.run().await;
    assert_blocked(&tide, &cy, "you granted a role").await;
    assert_eq!(blocked(&tide, &bo).await, [None]);
    // Nor can an operator whom they make an approver; and nobody makes themselves one.
    let own = tide
        .engine
        .operators()
        .set_operator("cy", &["masters".into()], None, &cy)
        .await;
    assert!(matches!(own, Err(EngineError::Forbidden(_))), "{own:?}");
    tide.engine
        .operators()
        .add_operator("second self", &["harbour masters".into()], None, &cy)
        .await
        .expect("added");
    let second = tide
        .engine
        .store()
        .find_operator("second self")
        .await
        .expect("there")
        .id;
    assert_blocked(&tide, &second, "has set your groups").await;
}

/// A token for another operator could be used by oneself: it is made only where no other is valid,
/// and noted.
#[tokio::test]
async fn who_got_a_token_from_another_operator_cannot_approve_their_changes() {
    let (tide, [ada, _, cy]) = start_with_approvers().await;
    publish_one_level(&tide, "tester").await;
    let mail = titled(&tide, 1, "Commodore").await;
    grant_role(&tide, &mail, &cy).await;
    tide.run().await;
    let taken = tide
        .engine
        .operators()
        .rotate_token("ada", "", None, 24, &cy)
        .await;
    assert!(matches!(taken, Err(EngineError::Forbidden(_))));
    for row in tide
        .engine
        .store()
        .list_tokens(PrincipalKind::Operator, "ada")
        .await
        .expect("read")
    {
        tide.engine
            .store()
            .end_token(
                PrincipalKind::Operator,
                "ada",
                &row.id,
                &cy,
                tide.engine.now(),
            )
            .await
            .expect("ended");
    }
    tide.engine
        .operators()
        .rotate_token("ada", "", None, 24, &cy)
        .await
        .expect("given");
    assert_blocked(&tide, &ada, "your groups, person or token since").await;
}
