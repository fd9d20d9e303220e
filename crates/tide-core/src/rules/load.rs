//! From the files' texts to the typed rule set.

use super::read::{Section, Source, kind};
use super::*;
use crate::expr::{Known, Names, Root};
use crate::matching::Compare;
use std::cell::RefCell;
use std::ops::Range;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

const IDENTITIES: &str = "identities.toml";
const TABLES: &str = "tables.toml";
const GUARDS: &str = "guards.toml";
/// The kinds of change that a guard can limit.
const CHANGES: [&str; 6] = ["create", "update", "rename", "enable", "disable", "delete"];

pub(super) fn load(files: &[RuleFile], schemas: &Schemas) -> (RuleSet, Vec<Fault>) {
    let faults = RefCell::new(Vec::new());
    let mut rules = RuleSet::default();
    let sources: Vec<Source<'_>> = files.iter().map(|file| Source { name: &file.name, text: &file.text, faults: &faults }).collect();
    let parsed: Vec<(&Source<'_>, Spanned<DeTable<'_>>)> = sources.iter().filter_map(|source| Some((source, parse(source)?))).collect();
    let named = |name: &str| parsed.iter().find(|(source, _)| source.name == name);

    if let Some((source, table)) = named(TABLES) {
        rules.tables = tables(&Section::new(source, table.get_ref(), 0, TABLES));
    }
    match named(IDENTITIES) {
        Some((source, table)) => {
            rules.identities = identities(Section::new(source, table.get_ref(), 0, IDENTITIES));
        }
        None if files.iter().any(|file| file.name == IDENTITIES) => {}
        None => faults.borrow_mut().push(Fault {
            severity: Severity::Error,
            place: Place { file: IDENTITIES.into(), line: 1, column: 1 },
            message: "the rule set has no identities.toml".into(),
            help: Some("it declares what an identity holds, for example [person.attributes]".into()),
        }),
    }
    for (source, table) in &parsed {
        if [IDENTITIES, TABLES, GUARDS].contains(&source.name) {
            continue;
        }
        let section = Section::new(source, table.get_ref(), 0, source.name);
        if let Some(system) = system(section, &rules, schemas) {
            if let Some(other) = rules.systems.get(&system.name) {
                source.error(0, format!("system `{}` has rules in {} already", system.name, other.file), None);
            } else {
                rules.systems.insert(system.name.clone(), system);
            }
        }
    }
    if let Some((source, table)) = named(GUARDS) {
        rules.guards = guards(Section::new(source, table.get_ref(), 0, GUARDS), &rules);
    }
    check_whole(&rules, &sources);
    drop(parsed);
    let mut faults = std::mem::take(&mut *faults.borrow_mut());
    faults.sort_by(|a, b| (&a.place.file, a.place.line, a.place.column).cmp(&(&b.place.file, b.place.line, b.place.column)));
    (rules, faults)
}

fn parse<'a>(source: &Source<'a>) -> Option<Spanned<DeTable<'a>>> {
    match DeTable::parse(source.text) {
        Ok(table) => Some(table),
        Err(error) => {
            let at = error.span().map_or(0, |span| span.start);
            let line = source.text.get(at..).and_then(|rest| rest.lines().next()).unwrap_or_default().trim();
            let help = if error.message().contains("string") || line.contains('\'') || line.contains('"') {
                "expressions stand in single quotes: name = 'account.sn'; a quote that opens must close on its line"
            } else {
                "a line is `key = value`, a table starts with [name]"
            };
            source.error(at, format!("not valid TOML: {}", error.message().replace('\n', ", ")), Some(help.into()));
            None
        }
    }
}

/// Faults that only the whole rule set shows.
fn check_whole(rules: &RuleSet, sources: &[Source<'_>]) {
    for (kind, identity) in &rules.identities {
        let Some(source) = sources.iter().find(|source| source.name == IDENTITIES) else { return };
        for attribute in &identity.attributes {
            let filled =
                rules.sources(*kind).any(|(_, from)| from.inbound.iter().any(|m| m.attribute.eq_ignore_ascii_case(&attribute.name)));
            let line = source.text.lines().take(attribute.place.line.saturating_sub(1)).map(|l| l.len() + 1).sum();
            if attribute.required && !filled {
                source.error(
                    line,
                    format!("`{}` is required, and no system gives it a value", attribute.name),
                    Some(format!("add it to a source system's [{kind}.inbound]")),
                );
            }
            for system in &attribute.authority {
                if rules.of(system, *kind).is_none_or(|from| !from.is_source()) {
                    source.error(
                        line,
                        format!("`{}` names the authority `{system}`, which gives {kind} identities nothing", attribute.name),
                        Some("an authority is a system whose file has an inbound mapping".into()),
                    );
                }
            }
        }
    }
}

fn tables(root: &Section<'_>) -> Tables {
    let mut tables = Tables::new();
    for (name, at, value) in root.entries() {
        let DeValue::Table(rows) = value.get_ref() else {
            root.source.error(
                at,
                format!("`{name}` must be a table of rows"),
                Some(format!("write [{name}] and below it \"key\" = \"value\"")),
            );
            continue;
        };
        let mut read = BTreeMap::new();
        for (key, value) in rows.iter() {
            match value.get_ref() {
                DeValue::String(text) => {
                    read.insert(key.get_ref().to_string(), text.to_string());
                }
                other => {
                    root.source.error(value.span().start, format!("a row of a look-up table is text, and this is {}", kind(other)), None)
                }
            }
        }
        tables.insert(name.to_owned(), read);
    }
    tables
}

fn type_sections<'a>(root: &Section<'a>) -> Vec<(ObjectType, Section<'a>)> {
    ObjectType::ALL.into_iter().filter_map(|kind| root.section(kind.word()).map(|section| (kind, section))).collect()
}

fn identities(root: Section<'_>) -> BTreeMap<ObjectType, IdentityRules> {
    let mut all = BTreeMap::new();
    for (kind, section) in type_sections(&root) {
        let mut rules = IdentityRules::default();
        let label = section.text("label");
        if let Some(attributes) = section.section("attributes") {
            for (name, at, value) in attributes.entries() {
                let mut attribute = IdentityAttribute { name: name.to_owned(), place: root.source.place(at), ..Default::default() };
                if let Some(options) = attributes.as_section(name, value, format!("attribute {name}")) {
                    attribute.many = options.truth("many").unwrap_or_default();
                    attribute.required = options.truth("required").unwrap_or_default();
                    attribute.wanted = options.truth("wanted").unwrap_or_default();
                    attribute.unique = options.truth("unique").unwrap_or_default();
                    for item in options.list("authority") {
                        match item.get_ref() {
                            DeValue::String(system) => attribute.authority.push(system.to_string()),
                            other => root.source.error(
                                item.span().start,
                                format!("a system's name is needed, and this is {}", super::read::kind(other)),
                                None,
                            ),
                        }
                    }
                    options.done();
                }
                rules.attributes.push(attribute);
            }
        }
        if let Some((label, span)) = label {
            if rules.get(&label).is_none() {
                root.source.error(
                    span.start,
                    format!("`label` names `{label}`, which is not declared"),
                    Some("declare it in the attributes below".into()),
                );
            }
            rules.label = Some(label);
        }
        section.done();
        all.insert(kind, rules);
    }
    root.done();
    all
}

fn guards(root: Section<'_>, rules: &RuleSet) -> Vec<Guard> {
    let mut all = Vec::new();
    for item in root.list("guard") {
        let Some(section) = root.as_section("guard", item, "[[guard]]") else { continue };
        let words: Vec<(&'static str, &'static str)> = CHANGES.iter().map(|word| (*word, *word)).collect();
        let system = section.text("system");
        if let Some((name, span)) = &system
            && !rules.systems.contains_key(name)
        {
            root.source.error(span.start, format!("no file has rules for a system `{name}`"), None);
        }
        let guard = Guard {
            system: system.map(|(name, _)| name),
            change: section.word("change", &words).unwrap_or_default().to_owned(),
            most: section.number("most").map(|most| most as usize),
            share: section.number("share"),
            place: section.place(),
        };
        if guard.change.is_empty() && section.get("change").is_none() {
            root.source.error(section.at, "a guard needs the kind of change", Some("for example: change = \"disable\"".into()));
        }
        if guard.most.is_none() && guard.share.is_none() {
            root.source.error(
                section.at,
                "a guard without a limit guards nothing",
                Some("add `most = 20` or `share = 10` (percent)".into()),
            );
        }
        section.done();
        all.push(guard);
    }
    root.done();
    all
}

/// The names that expressions of one section may read.
struct Scopes<'a> {
    account: Option<BTreeMap<String, bool>>,
    identity: BTreeMap<String, bool>,
    tables: &'a Tables,
}

impl Scopes<'_> {
    fn known(&self, roots: &[Root]) -> Known<'_> {
        Known {
            roots: roots
                .iter()
                .map(|root| match root {
                    Root::Account => (*root, self.account.as_ref().map_or(Names::Any, Names::These)),
                    Root::Identity => (*root, Names::These(&self.identity)),
                })
                .collect(),
            tables: Some(self.tables),
        }
    }
}

/// What expressions may name in one type of a system with this schema.
fn scopes<'a>(rules: &'a RuleSet, kind: ObjectType, schema: Option<&Schema>) -> Scopes<'a> {
    let mut identity: BTreeMap<String, bool> = rules
        .identities
        .get(&kind)
        .map(|identity| identity.attributes.iter().map(|a| (a.name.clone(), a.many)).collect())
        .unwrap_or_default();
    // Every identity has these, whatever is declared.
    identity.insert("id".into(), false);
    identity.insert("stage".into(), false);
    Scopes {
        account: schema.map(|schema| schema.attributes.iter().map(|(name, def)| (name.clone(), def.many)).collect()),
        identity,
        tables: &rules.tables,
    }
}

/// Compiles an expression that is tried, with the names that a rule there could use.
pub(super) fn expression(
    rules: &RuleSet,
    kind: ObjectType,
    account: Option<Option<&Schema>>,
    source: &str,
) -> Result<Program, crate::expr::ExprError> {
    let schema = account.flatten().filter(|schema| !schema.attributes.is_empty());
    let roots: &[Root] = if account.is_some() { &[Root::Account, Root::Identity] } else { &[Root::Identity] };
    Program::compile(source, &scopes(rules, kind, schema).known(roots))
}

fn system(root: Section<'_>, rules: &RuleSet, schemas: &Schemas) -> Option<SystemRules> {
    let source = root.source;
    let Some((name, _)) = root.text("system") else {
        source.error(0, "the file does not say whose rules it holds", Some("begin it with: system = \"name\"".into()));
        return None;
    };
    let mut system = SystemRules { name: name.clone(), file: source.name.to_owned(), types: BTreeMap::new() };
    for (kind, section) in type_sections(&root) {
        let schema = schemas.get(&name).and_then(|by_type| by_type.get(&kind)).filter(|s| !s.attributes.is_empty());
        if !rules.identities.contains_key(&kind) {
            source.error(section.at, format!("identities.toml declares no {kind}"), Some(format!("add [{kind}.attributes] there")));
        }
        let scopes = scopes(rules, kind, schema);
        let types = type_rules(section, kind, &scopes, schema, rules);
        system.types.insert(kind, types);
    }
    root.done();
    Some(system)
}

fn type_rules(section: Section<'_>, kind: ObjectType, scopes: &Scopes<'_>, schema: Option<&Schema>, rules: &RuleSet) -> TypeRules {
    let source = section.source;
    let mut types = TypeRules { place: section.place(), ..Default::default() };
    let inbound = section.section("inbound");
    let outbound = section.section("outbound");
    let scope_root = if inbound.is_some() { Root::Account } else { Root::Identity };
    if let Some(scope) = section.section("scope") {
        types.scope = self::scope(scope, &scopes.known(&[scope_root]), source);
        if scope_root == Root::Identity {
            let target_only = "this system receives accounts only, so its scope is about identities";
            if let Some(container) = types.scope.within.first().or(types.scope.except.first()) {
                source.error_at(
                    &container.place,
                    "a container says nothing about an identity",
                    Some(format!("{target_only}: use a condition")),
                );
            }
            if let Some(filter) = &types.scope.filter {
                source.error_at(
                    &filter.place,
                    "a filter of a protocol says nothing about an identity",
                    Some(format!("{target_only}: use a condition")),
                );
            }
            for group in types.scope.groups.iter().chain(&types.scope.not_groups).filter(|group| group.system.is_none()) {
                source.error_at(
                    &group.place,
                    format!("it is not said in which system the group `{}` is", group.name),
                    Some(format!("{target_only}: {{ name = \"…\", system = \"…\" }}")),
                );
            }
        }
    }
    types.domains = section.section("domains").map(domains);
    types.hands_off = section.section("hands_off").map(|own| hands_off(own, &scopes.known(&[Root::Account]))).unwrap_or_default();
    for item in section.list("match") {
        let Some(rule) = section.as_section("match", item, "a match rule") else { continue };
        let name = rule.text("name").map_or_else(|| "match rule".into(), |(name, _)| name);
        let compare = rule.word("compare", &Compare::WORDS).unwrap_or_default();
        let certain = rule.word("then", &[("join", true), ("ask", false)]).unwrap_or(true);
        let (there, here) = (rule.texts("account"), rule.texts("identity"));
        let side = |texts: &[(String, Range<usize>)], root: Root| -> Vec<Program> {
            texts.iter().filter_map(|text| program(source, text, &scopes.known(&[root]))).collect()
        };
        let (account, identity) = (side(&there, Root::Account), side(&here, Root::Identity));
        let mut agree = Vec::new();
        for item in rule.list("agree") {
            let Some(pair) = rule.as_section("agree", item, "a value that agrees") else { continue };
            match (pair.text("account"), pair.text("identity")) {
                (Some(there), Some(here)) => {
                    let must = pair.truth("must").unwrap_or_default();
                    let both = side(&[there], Root::Account).pop().zip(side(&[here], Root::Identity).pop());
                    agree.extend(both.map(|(account, identity)| Agreement { account, identity, must }));
                }
                _ => source.error(pair.at, "a value that agrees has two sides", Some("{ account = '…', identity = '…' }".into())),
            }
            pair.done();
        }
        let at_least = rule.number("at_least").map_or(1, |number| number as usize);
        if at_least > agree.len().max(1) {
            source.error(
                rule.at,
                format!("`at_least` wants {at_least} values to agree, and {} are named", agree.len()),
                Some("name more in `agree`, or ask for fewer".into()),
            );
        }
        if rule.get("account").is_none() || rule.get("identity").is_none() {
            source.error(rule.at, "a match rule has two sides", Some("account = '…' and identity = '…'".into()));
        } else if there.len() != here.len() {
            source.error(
                rule.at,
                "the two sides of a match rule are compared one by one, and have not the same number of expressions",
                Some("account = ['account.sn', 'account.birthDate'] and identity = ['identity.familyName', 'identity.birthDate']".into()),
            );
        } else if !account.is_empty() && account.len() == there.len() && identity.len() == here.len() {
            types.matching.push(MatchRule { name, account, identity, compare, certain, agree, at_least, place: rule.place() });
        }
        rule.done();
    }
    if let Some(inbound) = inbound {
        types.inbound = mappings(&inbound, &scopes.known(&[Root::Account]), |name, at| {
            if let Some(identity) = rules.identities.get(&kind)
                && identity.get(name).is_none()
            {
                let near = crate::expr::closest(name, identity.attributes.iter().map(|a| a.name.as_str()));
                source.error(
                    at,
                    format!("identities.toml declares no attribute `{name}`"),
                    Some(near.map_or_else(|| "declare it there, or remove this line".into(), |near| format!("did you mean `{near}`?"))),
                );
            }
        });
    }
    if let Some(outbound) = outbound {
        types.outbound = mappings(&outbound, &scopes.known(&[Root::Identity]), |name, at| {
            let Some(schema) = schema else { return };
            match schema.get(name) {
                None => {
                    let near = crate::expr::closest(name, schema.names());
                    source.error(
                        at,
                        format!("the system has no attribute `{name}`"),
                        Some(near.map_or_else(
                            || "`eager-tide systems show SYSTEM --schema` lists what it has".into(),
                            |near| format!("did you mean `{near}`?"),
                        )),
                    );
                }
                Some(def) if !def.writable => source.error(at, format!("the system lets nobody write `{name}`"), None),
                Some(_) => {}
            }
        });
        if let Some(schema) = schema {
            for def in schema.attributes.values().filter(|def| def.required && def.writable) {
                if !types.outbound.iter().any(|m| m.attribute.eq_ignore_ascii_case(&def.name)) {
                    source.warn(outbound.at, format!("the system needs `{}` for a new account, and no mapping gives it", def.name), None);
                }
            }
        }
    }
    types.when_out = section.word("when_out", &[("disable", WhenOut::Disable), ("leave", WhenOut::Leave)]).unwrap_or_default();
    if types.is_target() && types.matching.is_empty() {
        source.warn(
            section.at,
            "without a match rule every existing account is left unowned, and new ones are made beside them",
            Some("add [[person.match]] with an account and an identity side".into()),
        );
    }
    section.done();
    types
}

fn scope(section: Section<'_>, known: &Known<'_>, source: &Source<'_>) -> Scope {
    let containers = |key: &'static str| -> Vec<Container> {
        section
            .list(key)
            .into_iter()
            .filter_map(|item| {
                let (text, one_level) = match item.get_ref() {
                    DeValue::String(text) => (text.to_string(), false),
                    DeValue::Table(_) => {
                        let table = section.as_section(key, item, "a container")?;
                        let dn = table.text("dn").map(|(dn, _)| dn);
                        let one = table.word("levels", &[("one", true), ("all", false)]).unwrap_or_default();
                        table.done();
                        (dn?, one)
                    }
                    other => {
                        source.error(item.span().start, format!("a container is a DN in quotes, and this is {}", kind(other)), None);
                        return None;
                    }
                };
                match text.parse::<Dn>() {
                    Ok(dn) => Some(Container { dn, one_level, place: source.place(item.span().start) }),
                    Err(error) => {
                        source.error(item.span().start, error.to_string(), Some("for example: \"ou=people,dc=skerry,dc=example\"".into()));
                        None
                    }
                }
            })
            .collect()
    };
    let within = containers("within");
    let except = containers("except");
    let (groups, not_groups) = (groups(&section, "groups"), groups(&section, "not_groups"));
    let filter = section.text("filter").and_then(|(text, span)| filter(source, &text, span.start));
    let mut conditions = Vec::new();
    for item in section.list("condition") {
        let Some(condition) = section.as_section("condition", item, "a condition") else { continue };
        let otherwise = condition.text("else").map(|(text, _)| text);
        match condition.text("when") {
            None => source.error(condition.at, "a condition needs `when`", Some("when = 'account.employeeNumber != null'".into())),
            Some(when) => {
                if let Some(when) = program(source, &when, known) {
                    let otherwise = otherwise.unwrap_or_else(|| format!("{} does not hold", when.source()));
                    conditions.push(Condition { when, otherwise, place: condition.place() });
                }
            }
        }
        condition.done();
    }
    section.done();
    Scope { within, except, groups, not_groups, filter, conditions }
}

/// Groups, each as its name or as a table.
fn groups(section: &Section<'_>, key: &'static str) -> Vec<GroupScope> {
    let source = section.source;
    let read = |item: &Spanned<DeValue<'_>>| -> Option<GroupScope> {
        let place = source.place(item.span().start);
        if let DeValue::String(name) = item.get_ref() {
            return Some(GroupScope { name: name.to_string(), system: None, nested: true, place });
        }
        None
    };
    section
        .list(key)
        .into_iter()
        .filter_map(|item| {
            if matches!(item.get_ref(), DeValue::Table(_)) {
                let table = section.as_section(key, item, "a group")?;
                let name = table.text("name").map(|(name, _)| name);
                if name.is_none() {
                    source.error(
                        table.at,
                        "a group needs a `name`",
                        Some("{ name = \"cn=deck-watch,ou=groups,…\", nested = false }".into()),
                    );
                }
                let group = GroupScope {
                    name: name.clone().unwrap_or_default(),
                    system: table.text("system").map(|(system, _)| system),
                    nested: table.truth("nested").unwrap_or(true),
                    place: table.place(),
                };
                table.done();
                return name.map(|_| group);
            }
            let group = read(item);
            if group.is_none() {
                source.error(item.span().start, format!("a group is its name in quotes, and this is {}", kind(item.get_ref())), None);
            }
            group
        })
        .collect()
}

fn filter(source: &Source<'_>, text: &str, at: usize) -> Option<FilterScope> {
    // The two writings cannot be mistaken for each other where an LDAP filter names no parenthesis twice:
    // what reads as the one does not read as the other.
    let ldap = text.trim_start().starts_with('(').then(|| text.parse::<tide_ldap::Filter>());
    let filter = match (ldap, text.parse::<tide_scim::Filter>()) {
        (Some(Ok(filter)), _) => RecordFilter::Ldap(filter),
        (_, Ok(filter)) => RecordFilter::Scim(filter),
        (Some(Err(error)), _) => {
            source.error(at, error.to_string(), Some("for example: '(&(employeeType=crew)(!(title=Trainee)))'".into()));
            return None;
        }
        (None, Err(error)) => {
            source.error(at, error.to_string(), Some("for example: 'userType eq \"crew\" and active eq true'".into()));
            return None;
        }
    };
    Some(FilterScope { filter, source: text.to_owned(), place: source.place(at) })
}

fn domains(section: Section<'_>) -> Domains {
    let source = section.source;
    let texts = |key: &'static str| -> Vec<String> {
        let one = |item: &Spanned<DeValue<'_>>| match item.get_ref() {
            DeValue::String(text) => Some(text.to_string()),
            other => {
                source.error(item.span().start, format!("`{key}` lists texts, and this is {}", kind(other)), None);
                None
            }
        };
        section.list(key).into_iter().filter_map(one).collect()
    };
    let lower = |text: String| text.trim().trim_start_matches('@').to_lowercase();
    let attributes = texts("attributes");
    let ours: Vec<String> = texts("ours").into_iter().map(lower).collect();
    if attributes.is_empty() {
        source.error(section.at, "`domains` names no attributes", Some("attributes = [\"userName\", \"emails.work\"]".into()));
    }
    if ours.is_empty() {
        source.error(section.at, "`domains` names no domain of ours", Some("ours = [\"skerry.example\"]".into()));
    }
    let mut translate = BTreeMap::new();
    if let Some(table) = section.section("translate") {
        for (from, _, value) in table.entries() {
            match value.get_ref() {
                DeValue::String(to) => {
                    let to = lower(to.to_string());
                    if !ours.contains(&to) {
                        source.warn(
                            value.span().start,
                            format!("{to} is not among the domains that are ours: its addresses are held"),
                            None,
                        );
                    }
                    translate.insert(lower(from.to_owned()), to);
                }
                other => source.error(value.span().start, format!("a domain is text, and this is {}", kind(other)), None),
            }
        }
    }
    let place = section.place();
    section.done();
    Domains { attributes, ours, translate, place }
}

fn hands_off(section: Section<'_>, known: &Known<'_>) -> HandsOff {
    let source = section.source;
    let mut hands_off = HandsOff { place: section.place(), ..HandsOff::default() };
    for item in section.list("names") {
        match item.get_ref() {
            DeValue::String(name) => hands_off.names.push(name.trim().to_lowercase()),
            other => source.error(item.span().start, format!("a name is text, and this is {}", kind(other)), None),
        }
    }
    for item in section.list("condition") {
        let Some(condition) = section.as_section("condition", item, "a condition") else { continue };
        let because = condition.text("because").map(|(text, _)| text);
        match condition.text("when") {
            None => source.error(condition.at, "a condition needs `when`", Some("when = 'account.employeeType == \"emergency\"'".into())),
            Some(when) => {
                if let Some(when) = program(source, &when, known) {
                    let otherwise = because.unwrap_or_else(|| when.source().to_owned());
                    hands_off.conditions.push(Condition { when, otherwise, place: condition.place() });
                }
            }
        }
        condition.done();
    }
    section.done();
    hands_off
}

fn program(source: &Source<'_>, text: &(String, Range<usize>), known: &Known<'_>) -> Option<Program> {
    match Program::compile(&text.0, known) {
        Ok(program) => Some(program),
        Err(error) => {
            source.expression_error(&text.1, &error);
            None
        }
    }
}

fn mappings(section: &Section<'_>, known: &Known<'_>, check: impl Fn(&str, usize)) -> Vec<Mapping> {
    let source = section.source;
    let mut all = Vec::new();
    for (name, at, value) in section.entries() {
        check(name, at);
        let mut mapping = (Need::Optional, Keep::InStep, Empty::Clear);
        let text = match value.get_ref() {
            DeValue::String(text) => Some((text.to_string(), value.span())),
            DeValue::Table(_) => section.as_section(name, value, format!("the mapping of {name}")).and_then(|table| {
                let text = table.text("value");
                if text.is_none() {
                    source.error(at, format!("the mapping of `{name}` has no `value`"), Some(format!("\"{name}\" = {{ value = '…' }}")));
                }
                if table.truth("wanted").unwrap_or_default() {
                    mapping.0 = Need::Wanted;
                }
                if table.truth("required").unwrap_or_default() {
                    mapping.0 = Need::Required;
                }
                let keeps = [("in step", Keep::InStep), ("once", Keep::Once), ("fill blank", Keep::FillBlank)];
                mapping.1 = table.word("keep", &keeps).unwrap_or_default();
                mapping.2 = table.word("empty", &[("clear", Empty::Clear), ("leave", Empty::Leave)]).unwrap_or_default();
                table.done();
                text
            }),
            other => {
                source.error(
                    value.span().start,
                    format!("the mapping of `{name}` is an expression in quotes, and this is {}", kind(other)),
                    None,
                );
                None
            }
        };
        if let Some(program) = text.and_then(|text| program(source, &text, known)) {
            all.push(Mapping {
                attribute: name.to_owned(),
                program,
                need: mapping.0,
                keep: mapping.1,
                empty: mapping.2,
                place: source.place(at),
            });
        }
    }
    all
}

#[cfg(test)]
#[path = "tests.rs"]
mod tests;
