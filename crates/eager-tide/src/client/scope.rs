//! `eager-tide scope SYSTEM`.

use super::codes::code_parser;
use super::{Reach, output, segment};
use clap::Args;
use reqwest::Method;
use std::io::Write;
use std::process::ExitCode;
use tide_api::{
    Published, Scope, ScopeContainer, ScopeCount, ScopeGroup, ScopeLine, ScopeSimulationView,
    ScopeStatusCount,
};
use tide_core::states::ScopeStatus;

/// Who is in scope, out of scope or on hold for a system.
#[derive(Args)]
pub struct ShowScope {
    /// The system
    system: String,
    /// List the records with this status, with their reasons
    #[arg(long, value_parser = code_parser(ScopeStatus::ALL))]
    status: Option<ScopeStatus>,
    /// Only records with this text in name, account or reason
    #[arg(long, default_value = "")]
    search: String,
    /// Write all records as CSV to standard output
    #[arg(long)]
    export: bool,
    /// Simulate including this container; shows who would move into and out of scope
    #[arg(long, value_name = "DN", help_heading = "Simulate an edit")]
    include: Vec<String>,
    /// Simulate excluding this container
    #[arg(long, value_name = "DN", help_heading = "Simulate an edit")]
    exclude: Vec<String>,
    /// Only members of this group; can be repeated
    #[arg(long, value_name = "NAME", help_heading = "Simulate an edit")]
    group: Vec<String>,
    /// Not members of this group
    #[arg(long, value_name = "NAME", help_heading = "Simulate an edit")]
    not_group: Vec<String>,
    /// LDAP or SCIM filter that must match; empty removes it
    #[arg(long, help_heading = "Simulate an edit")]
    filter: Option<String>,
    /// Publish the edit as a new version of the rules
    #[arg(long, help_heading = "Simulate an edit")]
    save: bool,
    /// Maximum number of records
    #[arg(long, default_value_t = 50)]
    limit: usize,
}

fn totals(totals: &[ScopeStatusCount]) -> String {
    totals
        .iter()
        .map(|count| format!("{} {}", count.count, status(count.status)))
        .collect::<Vec<_>>()
        .join(", ")
}

fn print_counts(counts: &[ScopeCount]) {
    output::table(
        &["status", "records", "reason", "rule"],
        counts.iter().map(|c| {
            vec![
                status(c.status).to_owned(),
                c.count.to_string(),
                c.reason.clone(),
                c.rule.clone().unwrap_or_default(),
            ]
        }),
    );
}

fn print_lines(lines: &[ScopeLine], limit: usize) {
    output::table(
        &["person", "status", "reason", "account"],
        lines.iter().take(limit).map(|l| {
            vec![
                l.label.clone(),
                status(l.status).to_owned(),
                l.reason.to_string(),
                l.account.clone().unwrap_or_default(),
            ]
        }),
    );
}

/// The label of a status.
fn status(status: ScopeStatus) -> &'static str {
    match status {
        ScopeStatus::In => "in scope",
        ScopeStatus::OnHold => "on hold",
        ScopeStatus::Out => "out of scope",
    }
}

impl ShowScope {
    fn has_edits(&self) -> bool {
        !(self.include.is_empty()
            && self.exclude.is_empty()
            && self.group.is_empty()
            && self.not_group.is_empty())
            || self.filter.is_some()
    }

    fn edited(&self, mut scope: Scope) -> Scope {
        let container = |dn: &String| ScopeContainer {
            dn: dn.clone(),
            one_level: false,
        };
        scope.within.extend(self.include.iter().map(container));
        scope.except.extend(self.exclude.iter().map(container));
        let group = |name: &String| ScopeGroup {
            name: name.clone(),
            system: None,
            nested: true,
        };
        scope.groups.extend(self.group.iter().map(group));
        scope.not_groups.extend(self.not_group.iter().map(group));
        if let Some(filter) = &self.filter {
            scope.filter = Some(filter.clone()).filter(|filter| !filter.is_empty());
        }
        scope
    }

    /// Runs the command.
    pub async fn run(self, reach: &Reach) -> anyhow::Result<ExitCode> {
        let client = reach.client()?;
        let path = format!("systems/{}/scope", segment(&self.system));
        let mut query = vec![
            ("limit", self.limit.to_string()),
            ("search", self.search.clone()),
        ];
        query.extend(self.status.map(|status| ("status", status.to_string())));
        if self.export {
            let file = client
                .download(
                    &format!("systems/{}/scope.csv", segment(&self.system)),
                    &query[1..],
                )
                .await?;
            std::io::stdout().write_all(&file)?;
            return Ok(ExitCode::SUCCESS);
        }
        let view: tide_api::ScopeView = client.get(&path, &query).await?;
        if self.has_edits() {
            return self
                .simulate(&client, reach, view.scope.clone(), &path)
                .await;
        }
        if reach.json() {
            output::json(&view)?;
            return Ok(ExitCode::SUCCESS);
        }
        output::line(&format!(
            "{}: {} (by {})\n",
            self.system,
            totals(&view.totals),
            view.file
        ));
        if self.status.is_none() && self.search.is_empty() {
            print_counts(&view.counts);
            output::line(&format!(
                "\n`eager-tide scope {} --status out` lists records; --search finds one",
                self.system
            ));
        } else if view.lines.is_empty() {
            output::line("no matching records");
        } else {
            print_lines(&view.lines, self.limit);
            if view.found > view.lines.len() {
                output::line(&format!(
                    "… and {} more: --limit {}, or --export",
                    view.found - view.lines.len(),
                    view.found
                ));
            }
        }
        Ok(ExitCode::SUCCESS)
    }

    async fn simulate(
        &self,
        client: &super::Client,
        reach: &Reach,
        scope: Scope,
        path: &str,
    ) -> anyhow::Result<ExitCode> {
        let edited = self.edited(scope);
        let found: ScopeSimulationView = client
            .send(Method::POST, &format!("{path}/simulate"), &edited)
            .await?;
        if reach.json() {
            output::json(&found)?;
        } else {
            output::line(&format!("{}: {}\n", self.system, totals(&found.totals)));
            if found.moves.is_empty() {
                output::line("no record changes status");
            }
            for one in &found.moves {
                output::line(&format!(
                    "{} from {} to {}",
                    one.count,
                    status(one.from),
                    status(one.to)
                ));
                print_lines(&one.lines, self.limit);
            }
        }
        if self.save {
            let published: Published = client.send(Method::PUT, path, &edited).await?;
            output::line(&format!(
                "saved in {}, published as version {}",
                found.file.name, published.version
            ));
        } else if !reach.json() {
            output::line("\nnothing was stored: --save publishes it");
        }
        Ok(ExitCode::SUCCESS)
    }
}
