//! What two versions of a rule set differ in, line by line, and how the changes of two people come
//! together.

use super::RuleFile;
use crate::states::{FileChange, LineChange};
use similar::{ChangeTag, TextDiff};
use std::collections::BTreeSet;

/// How many unchanged lines are shown around a change.
const AROUND: usize = 2;

/// A file that differs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FileDifference {
    /// Its name.
    pub name: String,
    /// The change of the file.
    pub state: FileChange,
    /// The lines that differ, with a few around them.
    pub lines: Vec<DiffLine>,
}

/// One line of a difference.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DiffLine {
    /// The result.
    pub change: LineChange,
    /// Its number in the older file, from 1.
    pub before: Option<usize>,
    /// Its number in the newer file.
    pub after: Option<usize>,
    /// The line.
    pub text: String,
}

fn text_of<'f>(files: &'f [RuleFile], name: &str) -> Option<&'f str> {
    files
        .iter()
        .find(|file| file.name == name)
        .map(|file| file.text.as_str())
}

fn names<'f>(sets: &[&'f [RuleFile]]) -> BTreeSet<&'f str> {
    sets.iter()
        .flat_map(|files| files.iter())
        .map(|file| file.name.as_str())
        .collect()
}

/// The files that differ, by name.
pub fn compare_files(before: &[RuleFile], after: &[RuleFile]) -> Vec<FileDifference> {
    names(&[before, after])
        .into_iter()
        .filter_map(|name| {
            let (old, new) = (text_of(before, name), text_of(after, name));
            if old == new {
                return None;
            }
            let state = match (old, new) {
                (None, _) => FileChange::Added,
                (_, None) => FileChange::Removed,
                _ => FileChange::Changed,
            };
            let diff = TextDiff::from_lines(old.unwrap_or_default(), new.unwrap_or_default());
            let mut lines = Vec::new();
            for group in diff.grouped_ops(AROUND) {
                for change in group.iter().flat_map(|op| diff.iter_changes(op)) {
                    let became = match change.tag() {
                        ChangeTag::Equal => LineChange::Unchanged,
                        ChangeTag::Delete => LineChange::Removed,
                        ChangeTag::Insert => LineChange::Added,
                    };
                    lines.push(DiffLine {
                        change: became,
                        before: change.old_index().map(|at| at + 1),
                        after: change.new_index().map(|at| at + 1),
                        text: change.value().trim_end_matches(['\n', '\r']).to_owned(),
                    });
                }
            }
            Some(FileDifference {
                name: name.to_owned(),
                state,
                lines,
            })
        })
        .collect()
}

/// Merges newer published files into a draft. A file that both changed keeps the draft's text and
/// is listed: a person must merge it.
pub fn brought_together(
    base: &[RuleFile],
    published: &[RuleFile],
    draft: &[RuleFile],
) -> (Vec<RuleFile>, Vec<String>) {
    let mut files = Vec::new();
    let mut both = Vec::new();
    for name in names(&[base, published, draft]) {
        let (was, theirs, ours) = (
            text_of(base, name),
            text_of(published, name),
            text_of(draft, name),
        );
        let kept = if ours == was { theirs } else { ours };
        if ours != was && theirs != was && ours != theirs {
            both.push(name.to_owned());
        }
        files.extend(kept.map(|text| RuleFile {
            name: name.to_owned(),
            text: text.to_owned(),
        }));
    }
    (files, both)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn files(all: &[(&str, &str)]) -> Vec<RuleFile> {
        all.iter()
            .map(|(name, text)| RuleFile {
                name: (*name).into(),
                text: (*text).into(),
            })
            .collect()
    }

    #[test]
    fn added_removed_and_changed_files_are_shown_with_context_lines() {
        let before = files(&[
            ("a.toml", "1\n2\n3\n4\n5\n6\n"),
            ("b.toml", "x\n"),
            ("same.toml", "y\n"),
        ]);
        let after = files(&[
            ("a.toml", "1\n2\n3\nfour\n5\n6\n"),
            ("c.toml", "z\n"),
            ("same.toml", "y\n"),
        ]);
        let found = compare_files(&before, &after);
        let told: Vec<(&str, FileChange)> = found
            .iter()
            .map(|file| (file.name.as_str(), file.state))
            .collect();
        assert_eq!(
            told,
            [
                ("a.toml", FileChange::Changed),
                ("b.toml", FileChange::Removed),
                ("c.toml", FileChange::Added)
            ]
        );
        let lines: Vec<String> = found[0]
            .lines
            .iter()
            .map(|line| format!("{} {}", line.change, line.text))
            .collect();
        assert_eq!(
            lines,
            [
                "unchanged 2",
                "unchanged 3",
                "removed 4",
                "added four",
                "unchanged 5",
                "unchanged 6"
            ]
        );
        assert_eq!(
            (found[0].lines[2].before, found[0].lines[3].after),
            (Some(4), Some(4))
        );
    }

    #[test]
    fn two_who_edit_different_files_both_keep_theirs() {
        let base = files(&[
            ("a.toml", "1"),
            ("b.toml", "1"),
            ("c.toml", "1"),
            ("d.toml", "1"),
        ]);
        let published = files(&[
            ("a.toml", "2"),
            ("b.toml", "1"),
            ("c.toml", "2"),
            ("e.toml", "new"),
        ]);
        let draft = files(&[
            ("a.toml", "1"),
            ("b.toml", "2"),
            ("c.toml", "3"),
            ("d.toml", "1"),
        ]);
        let (together, both) = brought_together(&base, &published, &draft);
        assert_eq!(
            together,
            files(&[
                ("a.toml", "2"),
                ("b.toml", "2"),
                ("c.toml", "3"),
                ("e.toml", "new")
            ])
        );
        assert_eq!(both, ["c.toml"]);
    }
}
