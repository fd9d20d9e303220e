//! Who is in scope, out of scope and on hold for a system, counted by reason, with the people
//! behind each number; and the impact of an edited scope.

use crate::outcomes::outcome_records;
use crate::{Engine, EngineError};
use std::collections::{BTreeMap, HashMap};
use tide_core::rules::RuleFile;
use tide_core::rules::edit::{self, ScopeEdit};
use tide_core::scope::Groups;
use tide_core::states::{ScopeStatus, SystemKind, SystemRole};
use tide_core::{
    ObjectType, Outcome, Place, Population, Reason, ReasonCode, RuleSet, Schema, decide,
};
use tide_store::{OutcomeCount, OutcomeFilter, OutcomeList, OutcomeRecord, OutcomeStatus};

/// One person or account, with its scope status.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ScopeLine {
    /// Its location in the rule files.
    pub status: ScopeStatus,
    /// The label of the person or account that it is about.
    pub label: String,
    /// The name of the account, if there is one.
    pub account: Option<String>,
    /// The identity, if there is or will be one.
    pub identity: Option<String>,
    /// Why, with the rule behind it.
    pub reason: Reason,
}

/// How many status somewhere for one reason.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ScopeCount {
    /// Where they status.
    pub status: ScopeStatus,
    /// Why.
    pub code: ReasonCode,
    /// Why, in words that fit them all.
    pub reason: String,
    /// The rule behind it.
    pub rule: Option<Place>,
    /// How many.
    pub count: usize,
}

/// The scope of a system as it works out now.
#[derive(Debug, Clone)]
pub struct ScopeView {
    /// The scope itself.
    pub edit: ScopeEdit,
    /// The file that contains it.
    pub file: String,
    /// The counts, the most important first.
    pub counts: Vec<ScopeCount>,
    /// The lines of the filter, up to its limit.
    pub lines: Vec<ScopeLine>,
    /// How many lines the filter has.
    pub found: usize,
}

/// Number of reasons from which the sentence of a count is made.
const SAMPLED: i64 = 50;

/// The impact of an edited scope.
#[derive(Debug, Clone)]
pub struct ScopeSimulation {
    /// The counts as they would be.
    pub counts: Vec<ScopeCount>,
    /// Who would status elsewhere than now, by where from and where to.
    pub moves: Vec<ScopeMove>,
    /// The file as it would be.
    pub file: RuleFile,
}

/// Those who would status elsewhere than now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ScopeMove {
    /// Where they status now.
    pub from: ScopeStatus,
    /// Where they would status.
    pub to: ScopeStatus,
    /// They, with the reason for where they would status.
    pub lines: Vec<ScopeLine>,
}

/// Changes of status by an edit. A record that is not listed is out of scope.
fn status_changes(before: &[ScopeLine], after: &[ScopeLine]) -> Vec<ScopeMove> {
    // By account, because a record out of scope has no identity yet.
    let who = |line: &ScopeLine| {
        line.account
            .clone()
            .or_else(|| line.identity.clone())
            .unwrap_or_default()
    };
    let stands = |lines: &[ScopeLine]| -> HashMap<String, ScopeStatus> {
        lines.iter().map(|line| (who(line), line.status)).collect()
    };
    let (was, is) = (stands(before), stands(after));
    let mut by_way: BTreeMap<(ScopeStatus, ScopeStatus), Vec<ScopeLine>> = BTreeMap::new();
    for line in after {
        let from = was.get(&who(line)).copied().unwrap_or(ScopeStatus::Out);
        if from != line.status {
            by_way
                .entry((from, line.status))
                .or_default()
                .push(line.clone());
        }
    }
    let gone = before
        .iter()
        .filter(|line| line.status != ScopeStatus::Out && !is.contains_key(&who(line)));
    for line in gone {
        by_way
            .entry((line.status, ScopeStatus::Out))
            .or_default()
            .push(ScopeLine {
                status: ScopeStatus::Out,
                ..line.clone()
            });
    }
    by_way
        .into_iter()
        .map(|((from, to), lines)| ScopeMove { from, to, lines })
        .collect()
}

/// The lines of a system's scope, by status and label.
fn scope_lines(
    outcome: &Outcome,
    population: &Population,
    rules: &RuleSet,
    system: &str,
    kind: ObjectType,
) -> Vec<ScopeLine> {
    let records = outcome_records(rules, population, outcome, None).into_iter();
    let here = records.filter(|one| one.system == system && one.object == kind);
    let mut lines: Vec<ScopeLine> = here.filter_map(scope_line).collect();
    lines.sort_by(|a, b| (a.status, &a.label, &a.account).cmp(&(b.status, &b.label, &b.account)));
    lines
}

/// The line of an outcome, if it has a scope status.
fn scope_line(record: OutcomeRecord) -> Option<ScopeLine> {
    let some = |text: String| Some(text).filter(|text| !text.is_empty());
    let OutcomeStatus::Scope(status) = record.status else {
        return None;
    };
    Some(ScopeLine {
        status,
        reason: record.reason,
        label: record.label,
        account: some(record.account_name),
        identity: some(record.identity),
    })
}

/// Counts by status, reason and rule. Reasons that differ in their arguments only are counted
/// together, with a sentence of the words that they share.
fn count_reasons(lines: &[ScopeLine]) -> Vec<ScopeCount> {
    let mut groups: BTreeMap<_, Vec<String>> = BTreeMap::new();
    for line in lines {
        let rule = line.reason.rule.as_ref();
        let place = rule.map(|place| (place.file.clone(), place.line, place.column));
        groups
            .entry((line.status, line.reason.code(), place))
            .or_default()
            .push(line.reason.to_string());
    }
    let mut counts: Vec<ScopeCount> = groups
        .into_iter()
        .map(|((status, code, place), texts)| ScopeCount {
            status,
            code,
            reason: shared_text(&texts),
            rule: place.map(|(file, line, column)| Place { file, line, column }),
            count: texts.len(),
        })
        .collect();
    sort_counts(&mut counts);
    counts
}

/// The most important first.
fn sort_counts(counts: &mut [ScopeCount]) {
    counts.sort_by(|a, b| {
        (a.status, std::cmp::Reverse(a.count), &a.reason).cmp(&(
            b.status,
            std::cmp::Reverse(b.count),
            &b.reason,
        ))
    });
}

/// The common beginning and end of texts, with an ellipsis between.
fn shared_text(texts: &[String]) -> String {
    let first: Vec<&str> = texts[0].split(' ').collect();
    let all: Vec<Vec<&str>> = texts.iter().map(|text| text.split(' ').collect()).collect();
    let shortest = all.iter().map(Vec::len).min().unwrap_or(0);
    let head = (0..shortest)
        .take_while(|&at| all.iter().all(|words| words[at] == first[at]))
        .count();
    if all.iter().all(|words| words.len() == head) {
        return texts[0].clone();
    }
    let tail = (1..=shortest - head)
        .take_while(|&back| {
            all.iter()
                .all(|words| words[words.len() - back] == first[first.len() - back])
        })
        .count();
    let end = &first[first.len() - tail..];
    let mut words: Vec<&str> = first[..head].to_vec();
    words.push("…");
    words.extend(end);
    words.join(" ")
}

impl Engine {
    /// The scope of a system, as decided now.
    ///
    /// # Errors
    /// `NotFound` if no rules exist for this type of the system.
    pub async fn show_scope(
        &self,
        system: &str,
        kind: ObjectType,
        filter: &OutcomeFilter,
        search: &str,
    ) -> Result<ScopeView, EngineError> {
        self.store.find_system(system).await?;
        self.refresh_outcomes().await?;
        let rules = self.published_rules().await?;
        let Some(own) = rules.set.systems.get(system) else {
            return Err(EngineError::NotFound(format!(
                "the published rules do not contain {system}: `eager-tide systems add` writes a first file"
            )));
        };
        let counts = self.count_scope(system, kind).await?;
        let list = OutcomeList::Scope;
        let filter = self.with_search(list, (system, kind), filter, search);
        let filter = filter.await?;
        let (records, found) = self.store.list_records(list, system, kind, &filter).await?;
        let edit = own
            .types
            .get(&kind)
            .map(|types| edit::scope_of(&types.scope))
            .unwrap_or_default();
        Ok(ScopeView {
            edit,
            file: own.file.clone(),
            counts,
            lines: records.into_iter().filter_map(scope_line).collect(),
            found: usize::try_from(found).unwrap_or_default(),
        })
    }

    /// The kept counts, each with a sentence that fits its first records.
    async fn count_scope(
        &self,
        system: &str,
        kind: ObjectType,
    ) -> Result<Vec<ScopeCount>, EngineError> {
        let mut counts = Vec::new();
        let list = OutcomeList::Scope;
        for (count, reason) in self.count_by_reason(list, system, kind).await? {
            let OutcomeStatus::Scope(status) = count.status else {
                continue;
            };
            counts.push(ScopeCount {
                status,
                code: count.code,
                reason,
                rule: count.rule(),
                count: usize::try_from(count.count).unwrap_or_default(),
            });
        }
        sort_counts(&mut counts);
        Ok(counts)
    }

    /// The kept counts of a list, each with the sentence that its first reasons share.
    pub(crate) async fn count_by_reason(
        &self,
        list: OutcomeList,
        system: &str,
        kind: ObjectType,
    ) -> Result<Vec<(OutcomeCount, String)>, EngineError> {
        let mut counts = Vec::new();
        for count in self.store.outcome_counts(list, system, kind).await? {
            let reasons = self
                .store
                .sample_reasons(system, kind, &count, SAMPLED)
                .await?;
            let texts: Vec<String> = reasons.iter().map(ToString::to_string).collect();
            if !texts.is_empty() {
                counts.push((count, shared_text(&texts)));
            }
        }
        Ok(counts)
    }

    /// What an edited scope would change. Nothing is stored.
    ///
    /// # Errors
    /// `NoRules` before the first publication; `Rules` if the edited scope has errors.
    pub async fn try_scope(
        &self,
        system: &str,
        kind: ObjectType,
        edit: &ScopeEdit,
    ) -> Result<ScopeSimulation, EngineError> {
        self.read_groups_of(system, edit).await?;
        let (rules, population, now) = self.decide_now().await?;
        let version = self.store.load_rules().await?.ok_or(EngineError::NoRules)?;
        known_groups(&population, system, edit)?;
        let (files, file) = edit_scope(&version.files, &rules.set, system, kind, edit)?;
        let (set, faults) = self.check_rules(&files).await?;
        let errors: Vec<_> = faults
            .into_iter()
            .filter(|fault| fault.severity == tide_core::rules::FaultSeverity::Error)
            .collect();
        if !errors.is_empty() {
            return Err(EngineError::Rules(errors));
        }
        let at = self.now();
        let decided = move || {
            let then = decide(&set, &population, at);
            (set, population, then)
        };
        let (set, population, then) = self
            .compute(Some(crate::compute::PATIENCE), decided)
            .await?;
        let before = scope_lines(&now, &population, &rules.set, system, kind);
        let after = scope_lines(&then, &population, &set, system, kind);
        let counts = count_reasons(&after);
        let moves = status_changes(&before, &after);
        Ok(ScopeSimulation {
            counts,
            moves,
            file,
        })
    }

    /// Reads the groups of systems that an edit names for the first time: without them its impact
    /// is unknown.
    async fn read_groups_of(&self, system: &str, edit: &ScopeEdit) -> Result<(), EngineError> {
        let named = edit
            .groups
            .iter()
            .chain(&edit.not_groups)
            .map(|group| group.system.as_deref().unwrap_or(system));
        for name in named.collect::<std::collections::BTreeSet<_>>() {
            if self
                .store
                .last_complete(name, ObjectType::Group)
                .await?
                .is_none()
            {
                let row = self.store.find_system(name).await?;
                self.read_system(&row, &[ObjectType::Group]).await?;
            }
        }
        Ok(())
    }

    /// Saves an edited scope: a new version of the rules is published.
    ///
    /// # Errors
    /// `NoRules` before the first publication; `Rules` if the edited scope has errors.
    pub async fn save_scope(
        &self,
        system: &str,
        kind: ObjectType,
        edit: &ScopeEdit,
        principal: &str,
    ) -> Result<i64, EngineError> {
        let rules = self.published_rules().await?;
        let version = self.store.load_rules().await?.ok_or(EngineError::NoRules)?;
        if !edit.groups.is_empty() || !edit.not_groups.is_empty() {
            self.read_groups_of(system, edit).await?;
            known_groups(&self.store.load_population().await?, system, edit)?;
        }
        let (files, _) = edit_scope(&version.files, &rules.set, system, kind, edit)?;
        Ok(self.publish_rules(&files, principal).await?.0)
    }

    /// Writes the first rule file of a system into a draft. A file that is there is not touched.
    pub async fn write_first_rules(
        &self,
        system: &str,
        purpose: SystemRole,
        scope: &ScopeEdit,
        principal: &str,
    ) -> Result<(i64, RuleFile), EngineError> {
        let row = self.store.find_system(system).await?;
        let (files, file, draft) = self
            .first_rules(system, row.kind, &row.schema, purpose, scope)
            .await?;
        Ok((
            self.keep_first_rules(system, draft, files, principal)
                .await?,
            file,
        ))
    }

    /// The first rule file of a system, the files that it comes into, and the draft that these are
    /// of: one for the systems that are connected one after the other, as long as it is based on
    /// what is published.
    pub(crate) async fn first_rules(
        &self,
        system: &str,
        kind: SystemKind,
        schemas: &BTreeMap<ObjectType, Schema>,
        purpose: SystemRole,
        scope: &ScopeEdit,
    ) -> Result<FirstRules, EngineError> {
        let version = self.store.load_rules().await?;
        let base = version.as_ref().map_or(0, |version| version.version);
        let open = self
            .store
            .list_drafts()
            .await?
            .into_iter()
            .find(|draft| draft.name == NEW_SYSTEMS && draft.base == base);
        let mut files = match &open {
            Some(draft) => self.store.find_draft(draft.id).await?.files,
            None => version.map(|version| version.files).unwrap_or_default(),
        };
        let (set, _) = self
            .check_rules_with(&files, Some((system, schemas)))
            .await?;
        if let Some(own) = set.systems.get(system) {
            return Err(EngineError::Conflict(format!(
                "{system} has rules already, in {}",
                own.file
            )));
        }
        if !files.iter().any(|file| file.name == "identities.toml") {
            files.push(edit::first_identities(true));
        }
        let (set, _) = self
            .check_rules_with(&files, Some((system, schemas)))
            .await?;
        let declared: Vec<String> = set
            .identities
            .get(&ObjectType::Person)
            .map(|i| i.attributes.iter().map(|a| a.name.clone()).collect())
            .unwrap_or_default();
        let schema = schemas
            .get(&ObjectType::Person)
            .cloned()
            .unwrap_or_default();
        let new = edit::NewSystemRules {
            system,
            kind,
            purpose,
            scope,
        };
        let text = edit::first_rule_file(new, &schema, &declared).map_err(EngineError::Invalid)?;
        let mut name = format!("{system}.toml");
        if files.iter().any(|file| file.name == name) {
            name = format!("{system}-system.toml");
        }
        let file = RuleFile { name, text };
        files.push(file.clone());
        let (_, faults) = self
            .check_rules_with(&files, Some((system, schemas)))
            .await?;
        let errors: Vec<_> = faults
            .into_iter()
            .filter(|fault| fault.severity == tide_core::rules::FaultSeverity::Error)
            .collect();
        if !errors.is_empty() {
            return Err(EngineError::Rules(errors));
        }
        Ok((files, file, open.map(|draft| (draft.id, draft.edition))))
    }

    pub(crate) async fn keep_first_rules(
        &self,
        system: &str,
        draft: Option<(i64, i64)>,
        files: Vec<RuleFile>,
        principal: &str,
    ) -> Result<i64, EngineError> {
        match draft {
            Some((id, edition)) => Ok(self
                .save_draft(id, edition, &files, principal)
                .await?
                .row
                .id),
            None => {
                tracing::debug!(system, "first rules as a draft");
                Ok(self
                    .begin_draft(NEW_SYSTEMS, None, Some(files), principal)
                    .await?
                    .row
                    .id)
            }
        }
    }
}

/// What the draft with first rules of connected systems is called.
const NEW_SYSTEMS: &str = "new systems";

/// Files with the first rules of a system, its own file, and the draft and edition that they are
/// of.
pub(crate) type FirstRules = (Vec<RuleFile>, RuleFile, Option<(i64, i64)>);

/// Rejects groups that no system has: with one of them, no scope status could be determined.
fn known_groups(
    population: &Population,
    system: &str,
    edit: &ScopeEdit,
) -> Result<(), EngineError> {
    let groups = Groups::new(population);
    for group in edit.groups.iter().chain(&edit.not_groups) {
        let of = group.system.as_deref().unwrap_or(system);
        if groups.is_known(of, &group.name) {
            continue;
        }
        let names = population
            .accounts
            .iter()
            .filter(|account| account.kind == ObjectType::Group && account.system == of);
        let names: Vec<String> = names.map(tide_core::decide::account_label).collect();
        let near = tide_core::expr::closest_name(&group.name, names.iter().map(String::as_str));
        let near = near
            .map(|near| format!(": did you mean `{near}`?"))
            .unwrap_or_default();
        return Err(EngineError::Invalid(format!(
            "{of} has no group `{}`{near}",
            group.name
        )));
    }
    Ok(())
}

fn edit_scope(
    files: &[RuleFile],
    set: &RuleSet,
    system: &str,
    kind: ObjectType,
    edit: &ScopeEdit,
) -> Result<(Vec<RuleFile>, RuleFile), EngineError> {
    let own = set.systems.get(system).ok_or_else(|| {
        EngineError::NotFound(format!("the published rules do not contain {system}"))
    })?;
    let mut files = files.to_vec();
    let file = files
        .iter_mut()
        .find(|file| file.name == own.file)
        .ok_or_else(|| EngineError::NotFound(format!("the rule set has no file {}", own.file)))?;
    file.text = edit::with_scope(&file.text, kind, edit).map_err(EngineError::Invalid)?;
    let changed = file.clone();
    Ok((files, changed))
}

#[cfg(test)]
mod tests {
    use super::*;
    use tide_core::ReasonKind;

    #[test]
    fn reasons_are_counted_by_the_words_that_they_share() {
        let shared = |texts: &[&str]| {
            let texts: Vec<String> = texts.iter().map(|text| (*text).to_owned()).collect();
            shared_text(&texts)
        };
        assert_eq!(shared(&["a b c"]), "a b c");
        assert_eq!(
            shared(&[
                "the address x lies outside ours",
                "the address y lies outside ours"
            ]),
            "the address … lies outside ours"
        );
        assert_eq!(shared(&["a", "b"]), "…");
        assert_eq!(
            shared(&["waits for mail", "waits for mail and name"]),
            "waits for mail …"
        );
    }

    fn out_line(kind: ReasonKind, line: usize) -> ScopeLine {
        let rule = Place {
            file: "systems/harbour.toml".into(),
            line,
            column: 1,
        };
        ScopeLine {
            status: ScopeStatus::Out,
            label: "Ada".into(),
            account: None,
            identity: None,
            reason: Reason::by(kind, &rule),
        }
    }

    #[test]
    fn reasons_are_counted_by_code_and_rule() {
        let outside = |container: &str| ReasonKind::OutsideContainers {
            containers: vec![container.to_owned()],
        };
        let lines = [
            out_line(outside("ou=a"), 3),
            out_line(outside("ou=b"), 3),
            // The same rule with another code, and the same code by another rule.
            out_line(ReasonKind::NoDn, 3),
            out_line(outside("ou=a"), 7),
        ];
        let counts: Vec<(ReasonCode, usize, usize)> = count_reasons(&lines)
            .iter()
            .map(|count| {
                (
                    count.code,
                    count.rule.as_ref().expect("a rule").line,
                    count.count,
                )
            })
            .collect();
        assert_eq!(
            counts,
            [
                (ReasonCode::OutsideContainers, 3, 2),
                (ReasonCode::NoDn, 3, 1),
                (ReasonCode::OutsideContainers, 7, 1),
            ]
        );
    }
}
