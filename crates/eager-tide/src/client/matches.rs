//! `eager-tide matches SYSTEM`.

use super::codes::{code_parser, label};
use super::{Client, Reach, output, segment};
use anyhow::{Context, bail};
use clap::Args;
use reqwest::Method;
use std::process::ExitCode;
use tide_api::{KeptAnswers, MatchCase, MatchLine, MatchValue, MatchView, NewMatchAnswer};
use tide_core::model::MatchDecision;
use tide_core::states::MatchStatus;

/// The matches between the accounts of a system and identities.
#[derive(Args)]
pub struct Matches {
    /// The system
    system: String,
    /// Only records with this status
    #[arg(long, value_parser = code_parser(MatchStatus::ALL))]
    status: Option<MatchStatus>,
    /// Only records with this text in name, account or reason
    #[arg(long, default_value = "")]
    search: String,
    /// Maximum number of records
    #[arg(long, default_value_t = 50)]
    limit: usize,
    /// One match, side by side with its candidates: a name, an account or an id
    #[arg(long, value_name = "WHO")]
    person: Option<String>,
    /// The candidate, by a part of its name
    #[arg(long, value_name = "NAME", requires = "person")]
    candidate: Option<String>,
    /// Link these two
    #[arg(long, group = "answer", help_heading = "Answer")]
    join: bool,
    /// Never link these two; an existing link ends
    #[arg(long, group = "answer", requires = "person", help_heading = "Answer")]
    never: bool,
    /// No candidate: create a new counterpart
    #[arg(long, group = "answer", help_heading = "Answer")]
    new: bool,
    /// Leave it unchanged, without further review
    #[arg(long, group = "answer", help_heading = "Answer")]
    skip: bool,
    /// Apply to all records selected by --status and --search (--join: only those with one
    /// candidate)
    #[arg(
        long,
        requires = "answer",
        requires = "status",
        conflicts_with = "person",
        help_heading = "Answer"
    )]
    all: bool,
    /// Take back an answer, by its number
    #[arg(
        long,
        value_name = "ID",
        conflicts_with = "answer",
        help_heading = "Answer"
    )]
    take_back: Option<i64>,
}

fn print_lines(lines: &[MatchLine]) {
    output::table(
        &["person", "status", "account", "reason", "rule"],
        lines.iter().map(|l| {
            vec![
                l.label.clone(),
                label(l.status),
                l.account_name.clone().unwrap_or_default(),
                l.reason.to_string(),
                l.rule.clone().unwrap_or_default(),
            ]
        }),
    );
}

/// A value that is missing on one side is no difference.
fn sign(own: &str, value: &MatchValue) -> &'static str {
    match (value.same, own == "—" || value.value == "—") {
        (true, _) => "=",
        (false, true) => " ",
        (false, false) => "≠",
    }
}

fn print_case(case: &MatchCase) {
    output::line(&case.reason.text);
    if let Some(rule) = &case.rule {
        output::line(&format!("by {rule}"));
    }
    output::line("");
    let head: Vec<String> = (1..=case.candidates.len())
        .map(|at| format!("candidate {at}"))
        .collect();
    let head: Vec<&str> = ["value", "record"]
        .into_iter()
        .chain(head.iter().map(String::as_str))
        .collect();
    let names = ["".to_owned(), case.own.name.clone()].into_iter().chain(
        case.candidates
            .iter()
            .map(|side| format!("  {}", side.name)),
    );
    let rows = case.rows.iter().map(|row| {
        let theirs = row
            .theirs
            .iter()
            .map(|v| format!("{} {}", sign(&row.own, v), v.value));
        [row.attribute.clone(), row.own.clone()]
            .into_iter()
            .chain(theirs)
            .collect()
    });
    output::table(&head, std::iter::once(names.collect()).chain(rows));
}

impl Matches {
    fn decision(&self) -> Option<MatchDecision> {
        let options = [
            (self.join, MatchDecision::Join),
            (self.never, MatchDecision::Never),
            (self.new, MatchDecision::New),
            (self.skip, MatchDecision::Skip),
        ];
        options.into_iter().find(|(on, _)| *on).map(|(_, w)| w)
    }

    fn path(&self) -> String {
        format!("systems/{}/matches", segment(&self.system))
    }

    async fn view(
        &self,
        client: &Client,
        status: Option<MatchStatus>,
        search: &str,
        limit: usize,
    ) -> anyhow::Result<MatchView> {
        let mut query = vec![("limit", limit.to_string()), ("search", search.to_owned())];
        query.extend(status.map(|status| ("status", status.to_string())));
        client.get(&self.path(), &query).await
    }

    async fn case(&self, client: &Client, line: &MatchLine) -> anyhow::Result<MatchCase> {
        let query = match (&line.identity, line.account) {
            (Some(identity), _) => ("identity", identity.clone()),
            (None, Some(account)) => ("account", account.to_string()),
            (None, None) => bail!("{} names neither an identity nor an account", line.label),
        };
        client.get(&format!("{}/case", self.path()), &[query]).await
    }

    /// Finds the record with a label, account or id.
    async fn find(&self, client: &Client, who: &str) -> anyhow::Result<MatchLine> {
        let view = self.view(client, self.status, "", 5000).await?;
        let same = |text: Option<&str>| text.is_some_and(|text| text.eq_ignore_ascii_case(who));
        let exact = |l: &&MatchLine| {
            same(Some(&l.label)) || same(l.identity.as_deref()) || same(l.account_name.as_deref())
        };
        let part = |text: Option<&str>| {
            text.is_some_and(|text| text.to_lowercase().contains(&who.to_lowercase()))
        };
        let inside = |l: &&MatchLine| part(Some(&l.label)) || part(l.account_name.as_deref());
        let mut found: Vec<&MatchLine> = view.lines.iter().filter(exact).collect();
        if found.is_empty() {
            found = view.lines.iter().filter(inside).collect();
        }
        // Of several with the same name, the one that needs review is meant.
        if found.iter().filter(|line| line.candidates > 0).count() == 1 {
            found.retain(|line| line.candidates > 0);
        }
        match found.as_slice() {
            [one] => Ok((*one).clone()),
            [] => bail!(
                "no record of {} matches `{who}`: `eager-tide matches {}` lists them",
                self.system,
                self.system
            ),
            several => {
                let names: Vec<String> = several
                    .iter()
                    .take(8)
                    .map(|l| format!("{} ({})", l.label, label(l.status)))
                    .collect();
                bail!(
                    "`{who}` matches {}: {}; use an id, an account or --status",
                    several.len(),
                    names.join(", ")
                )
            }
        }
    }

    /// The answer about one record.
    async fn answer(
        &self,
        client: &Client,
        line: &MatchLine,
        decision: MatchDecision,
    ) -> anyhow::Result<NewMatchAnswer> {
        let answer = |identity, account| NewMatchAnswer {
            answer: decision,
            identity,
            account,
        };
        if matches!(decision, MatchDecision::New | MatchDecision::Skip) {
            // The answer is about the record that has no counterpart: an identity without account, or
            // an account without identity.
            return Ok(match &line.identity {
                Some(identity) => answer(Some(identity.clone()), None),
                None => answer(None, line.account),
            });
        }
        if matches!(line.status, MatchStatus::Linked | MatchStatus::WillLink) {
            return Ok(answer(line.identity.clone(), line.account));
        }
        let case = self.case(client, line).await?;
        let wanted = self.candidate.as_deref().map(str::to_lowercase);
        let fits: Vec<_> = case
            .candidates
            .iter()
            .filter(|side| {
                wanted.as_ref().is_none_or(|wanted| {
                    side.name.to_lowercase().contains(wanted)
                        || side.identity.as_ref() == Some(wanted)
                })
            })
            .collect();
        let names = || {
            case.candidates
                .iter()
                .map(|side| side.name.clone())
                .collect::<Vec<_>>()
                .join(", ")
        };
        let [side] = fits.as_slice() else {
            bail!("choose one of {} with --candidate NAME", names())
        };
        let identity = case
            .own
            .identity
            .clone()
            .or(side.identity.clone())
            .context("there is no identity")?;
        let account = case
            .own
            .account
            .or(side.account)
            .or(line.account)
            .context("there is no account")?;
        // If a key was reassigned, the candidate is the identity that the account may belong to instead.
        let identity = if line.status == MatchStatus::KeyReassigned {
            side.identity.clone().unwrap_or(identity)
        } else {
            identity
        };
        Ok(answer(Some(identity), Some(account)))
    }

    async fn send(
        &self,
        client: &Client,
        reach: &Reach,
        answers: &[NewMatchAnswer],
    ) -> anyhow::Result<ExitCode> {
        let kept: KeptAnswers = client
            .send(
                Method::POST,
                &format!("{}/answers", self.path()),
                &answers.to_vec(),
            )
            .await?;
        if reach.json() {
            output::json(&kept)?;
        } else {
            let what = if kept.kept == 1 {
                "answer was"
            } else {
                "answers were"
            };
            output::line(&format!(
                "{} {what} stored: `eager-tide preview` shows the consequences; --take-back undoes it",
                kept.kept
            ));
        }
        Ok(ExitCode::SUCCESS)
    }

    /// Runs the command.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let client = reach.client()?;
        if let Some(id) = self.take_back {
            client
                .tell(
                    Method::DELETE,
                    &format!("matches/answers/{id}"),
                    None::<&()>,
                )
                .await?;
            output::line("taken back: the rules decide again");
            return Ok(ExitCode::SUCCESS);
        }
        if let Some(who) = &self.person {
            return self.answer_or_compare(reach, &client, who).await;
        }
        let view = self
            .view(
                &client,
                self.status,
                &self.search,
                if self.all { 5000 } else { self.limit },
            )
            .await?;
        if let (true, Some(decision)) = (self.all, self.decision()) {
            return self.answer_all(reach, &client, &view, decision).await;
        }
        if self.decision().is_some() {
            bail!("which record? Use --person WHO, or --status … --all");
        }
        if reach.json() {
            output::json(&view)?;
            return Ok(ExitCode::SUCCESS);
        }
        if self.status.is_none() && self.search.is_empty() {
            self.print_counts(&view);
        } else if view.lines.is_empty() {
            output::line("no matching records");
        } else {
            print_lines(&view.lines);
            if view.found > view.lines.len() {
                output::line(&format!(
                    "… and {} more: --limit {}",
                    view.found - view.lines.len(),
                    view.found
                ));
            }
        }
        Ok(ExitCode::SUCCESS)
    }

    /// Answers for one record, or compares it with its candidates.
    async fn answer_or_compare(
        &self,
        reach: &Reach,
        client: &Client,
        who: &str,
    ) -> anyhow::Result<ExitCode> {
        let line = self.find(client, who).await?;
        if let Some(decision) = self.decision() {
            let answer = self.answer(client, &line, decision).await?;
            return self.send(client, reach, &[answer]).await;
        }
        if line.candidates == 0 {
            print_lines(std::slice::from_ref(&line));
            return Ok(ExitCode::SUCCESS);
        }
        let case = self.case(client, &line).await?;
        if reach.json() {
            output::json(&case)?
        } else {
            print_case(&case)
        }
        if !reach.json() {
            output::line(&format!(
                "\nanswer: `eager-tide matches {} --person \"{}\" --join --candidate NAME`, or --never, --new, --skip",
                self.system, line.label
            ));
        }
        Ok(ExitCode::SUCCESS)
    }

    /// Gives the same answer for all records that match.
    async fn answer_all(
        &self,
        reach: &Reach,
        client: &Client,
        view: &MatchView,
        decision: MatchDecision,
    ) -> anyhow::Result<ExitCode> {
        let lines: Vec<&MatchLine> = view
            .lines
            .iter()
            .filter(|line| decision != MatchDecision::Join || line.candidates == 1)
            .collect();
        if lines.is_empty() {
            bail!("no matching records");
        }
        let mut answers = Vec::with_capacity(lines.len());
        for line in lines {
            answers.push(self.answer(client, line, decision).await?);
        }
        self.send(client, reach, &answers).await
    }

    /// Prints the counts of each status, the links and the answers.
    fn print_counts(&self, view: &MatchView) {
        output::table(
            &["status", "records"],
            view.counts
                .iter()
                .filter(|c| c.count > 0)
                .map(|c| vec![label(c.status), c.count.to_string()]),
        );
        if !view.linked_by.is_empty() {
            output::line("");
            output::table(
                &["linked by", "accounts"],
                view.linked_by
                    .iter()
                    .map(|c| vec![c.basis.clone(), c.count.to_string()]),
            );
        }
        if !view.answers.is_empty() {
            output::line("");
            output::table(
                &["id", "answer", "record", "by", "when"],
                view.answers.iter().take(self.limit).map(|a| {
                    vec![
                        a.id.to_string(),
                        a.answer.to_string(),
                        a.label.clone(),
                        a.principal.clone(),
                        output::time(&a.created_at),
                    ]
                }),
            );
        }
        output::line(&format!(
            "\n`eager-tide matches {} --status ambiguous` lists records; --person WHO compares one with its candidates",
            self.system
        ));
    }
}
