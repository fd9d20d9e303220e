//! From the files' texts to the typed rule set.

mod approvals;
mod guards;
mod licenses;
mod lifecycle;
mod mapping;
mod matching;
mod memberships;
mod notifications;
pub(super) mod passwords;
mod roles;
mod scope;
mod webhooks;

use super::read::{RuleSource, Section, kind_name};
use super::*;
use crate::expr::{ExprScope, Names, Root};
use crate::schema::ValueKind;
use mapping::{read_examples, read_populations, read_with_shared, shared_sections};
use matching::read_match_rules;
use scope::{read_domains, read_protected};
use std::cell::RefCell;
use std::ops::Range;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

const IDENTITIES: &str = "identities.toml";
const TABLES: &str = "tables.toml";
const GUARDS: &str = "guards.toml";
const SHARED_MAPPINGS: &str = "shared_mappings.toml";
const WEBHOOKS: &str = "webhooks.toml";
const APPROVALS: &str = "approvals.toml";
const LIFECYCLE: &str = "lifecycle.toml";
const ROLES: &str = "roles.toml";
const LICENSES: &str = "licenses.toml";
const NOTIFICATIONS: &str = "notifications.toml";

/// Files that are not about one system.
const NOT_OF_A_SYSTEM: [&str; 10] = [
    IDENTITIES,
    TABLES,
    GUARDS,
    SHARED_MAPPINGS,
    WEBHOOKS,
    APPROVALS,
    LIFECYCLE,
    ROLES,
    LICENSES,
    NOTIFICATIONS,
];

/// A rule file that is TOML, with its top table.
struct ParsedFile<'a> {
    source: &'a RuleSource<'a>,
    table: Spanned<DeTable<'a>>,
}

impl ParsedFile<'_> {
    fn section(&self) -> Section<'_> {
        Section::new(self.source, self.table.get_ref(), 0, self.source.name)
    }
}

/// The top section of a file with this name, if there is one.
fn section_of<'p>(parsed: &'p [ParsedFile<'p>], name: &str) -> Option<Section<'p>> {
    let file = parsed.iter().find(|file| file.source.name == name)?;
    Some(file.section())
}

/// Loads all rule files. The examples beside the rules are not run.
pub(crate) fn load_files(files: &[RuleFile], schemas: &Schemas) -> (RuleSet, Vec<RuleFault>) {
    let faults = RefCell::new(Vec::new());
    let sources: Vec<RuleSource<'_>> = files
        .iter()
        .map(|file| RuleSource {
            name: &file.name,
            text: &file.text,
            faults: &faults,
        })
        .collect();
    let rules = load_sources(&sources, schemas);
    if !files.iter().any(|file| file.name == IDENTITIES) {
        faults.borrow_mut().push(identities_missing());
    }
    (rules, faults.into_inner())
}

fn identities_missing() -> RuleFault {
    RuleFault {
        severity: FaultSeverity::Error,
        place: Place {
            file: IDENTITIES.into(),
            line: 1,
            column: 1,
        },
        message: "identities.toml is missing".into(),
        help: Some(
            "it declares the attributes of identities, for example [person.attributes]".into(),
        ),
    }
}

/// Loads each file after those that it refers to.
fn load_sources(sources: &[RuleSource<'_>], schemas: &Schemas) -> RuleSet {
    let mut rules = RuleSet::default();
    let parsed: Vec<ParsedFile<'_>> = sources
        .iter()
        .filter_map(|source| {
            Some(ParsedFile {
                source,
                table: parse(source)?,
            })
        })
        .collect();
    if let Some(section) = section_of(&parsed, TABLES) {
        rules.tables = read_tables(&section);
    }
    if let Some(section) = section_of(&parsed, IDENTITIES) {
        rules.identities = read_identities(section, &rules.tables);
    }
    if let Some(section) = section_of(&parsed, WEBHOOKS) {
        rules.webhooks = webhooks::load_webhooks(&section);
    }
    if let Some(section) = section_of(&parsed, ROLES) {
        rules.roles = roles::load_roles(section, &rules);
    }
    if let Some(section) = section_of(&parsed, LIFECYCLE) {
        rules.lifecycle = lifecycle::load_lifecycle(section, &rules);
    }
    load_systems(&parsed, schemas, &mut rules);
    if let Some(section) = section_of(&parsed, GUARDS) {
        rules.guards = guards::load_guards(section, &rules);
    }
    rules.guards.extend(guards::default_guards(&rules));
    if let Some(section) = section_of(&parsed, APPROVALS) {
        rules.approvals = approvals::load_approvals(section, &rules);
    }
    if let Some(section) = section_of(&parsed, LICENSES) {
        rules.licenses = licenses::load_licenses(section, &rules, schemas);
    }
    if let Some(section) = section_of(&parsed, NOTIFICATIONS) {
        rules.notifications = notifications::load_notifications(section, &rules, schemas);
    }
    check_whole(&rules, sources);
    rules
}

/// Loads the rules of each system, with the shared mappings.
fn load_systems(parsed: &[ParsedFile<'_>], schemas: &Schemas, rules: &mut RuleSet) {
    let shared = section_of(parsed, SHARED_MAPPINGS);
    let shared = shared
        .as_ref()
        .map(read_shared_mappings)
        .unwrap_or_default();
    for file in parsed {
        let source = file.source;
        if NOT_OF_A_SYSTEM.contains(&source.name) {
            continue;
        }
        let Some(system) = read_system(file.section(), rules, schemas, &shared) else {
            continue;
        };
        if let Some(other) = rules.systems.get(&system.name) {
            let text = format!(
                "system `{}` has rules in {} already",
                system.name, other.file
            );
            source.error(0, text, None);
        } else {
            rules.systems.insert(system.name.clone(), system);
        }
    }
}

fn parse<'a>(source: &RuleSource<'a>) -> Option<Spanned<DeTable<'a>>> {
    match DeTable::parse(source.text) {
        Ok(table) => Some(table),
        Err(error) => {
            let at = error.span().map_or(0, |span| span.start);
            let line = source
                .text
                .get(at..)
                .and_then(|rest| rest.lines().next())
                .unwrap_or_default()
                .trim();
            let help = if error.message().contains("string")
                || line.contains('\'')
                || line.contains('"')
            {
                "put expressions in single quotes: name = 'account.sn'; a quote must close on its line"
            } else {
                "a line is `key = value`, a table starts with [name]"
            };
            source.error(
                at,
                format!("not valid TOML: {}", error.message().replace('\n', ", ")),
                Some(help.into()),
            );
            None
        }
    }
}

/// Faults that only the whole rule set shows.
fn check_whole(rules: &RuleSet, sources: &[RuleSource<'_>]) {
    memberships::check_rule_set(rules, sources);
    for (kind, identity) in &rules.identities {
        let Some(source) = sources.iter().find(|source| source.name == IDENTITIES) else {
            return;
        };
        for attribute in &identity.attributes {
            let filled = rules.sources(*kind).any(|(_, from)| {
                from.inbound
                    .iter()
                    .any(|m| m.attribute.eq_ignore_ascii_case(&attribute.name))
            });
            let line = source
                .text
                .lines()
                .take(attribute.place.line.saturating_sub(1))
                .map(|l| l.len() + 1)
                .sum();
            if attribute.required
                && !filled
                && attribute.generated.is_none()
                && attribute.distribution.is_none()
            {
                source.error(
                    line,
                    format!(
                        "`{}` is required, but no system supplies it",
                        attribute.name
                    ),
                    Some(format!("add it to a source system's [{kind}.inbound]")),
                );
            }
            if let Some(by) = attribute
                .reference
                .as_ref()
                .and_then(|pointer| pointer.by.as_ref())
                && identity.get(by).is_none()
            {
                source.error(
                    line,
                    format!(
                        "`{}` refers by `{by}`, which is not declared",
                        attribute.name
                    ),
                    None,
                );
            }
            for (system, name) in attribute
                .generated
                .iter()
                .flat_map(|generated| &generated.unique_in)
            {
                if !rules.systems.contains_key(system) {
                    source.error(
                        line,
                        format!("`{}` must be unique in {system}.{name}, but no file has rules for {system}", attribute.name),
                        None,
                    );
                }
            }
            for system in &attribute.authority {
                if rules.of(system, *kind).is_none_or(|from| !from.is_source()) {
                    source.error(
                        line,
                        format!(
                            "`{}` names the authority `{system}`, which supplies no {kind} values",
                            attribute.name
                        ),
                        Some("an authority is a system whose file has an inbound mapping".into()),
                    );
                }
            }
        }
    }
}

/// The mappings that several systems share, by type.
fn read_shared_mappings<'a>(root: &Section<'a>) -> BTreeMap<ObjectType, SharedMappings<'a>> {
    let mut all: BTreeMap<ObjectType, SharedMappings<'a>> = BTreeMap::new();
    for (kind, section) in type_sections(root) {
        for (name, _, value) in section.entries() {
            let Some(block) = section.as_section(name, value, format!("shared mapping {name}"))
            else {
                continue;
            };
            let (inbound, outbound) = (block.section("inbound"), block.section("outbound"));
            if inbound.is_none() && outbound.is_none() {
                root.source.error(
                    block.at,
                    format!("the shared mapping `{name}` is empty"),
                    Some(format!("[{kind}.{name}.outbound]")),
                );
            }
            all.entry(kind).or_default().push(SharedMapping {
                name: name.to_owned(),
                inbound,
                outbound,
            });
            block.report_unknown_keys();
        }
    }
    root.report_other_keys();
    all
}

fn read_tables(root: &Section<'_>) -> Tables {
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
                other => root.source.error(
                    value.span().start,
                    format!(
                        "a row of a look-up table must be text, not {}",
                        kind_name(other)
                    ),
                    None,
                ),
            }
        }
        tables.insert(name.to_owned(), read);
    }
    tables
}

fn type_sections<'a>(root: &Section<'a>) -> Vec<(ObjectType, Section<'a>)> {
    ObjectType::ALL
        .iter()
        .copied()
        .filter_map(|kind| root.section(kind.as_str()).map(|section| (kind, section)))
        .collect()
}

fn read_identities(root: Section<'_>, tables: &Tables) -> BTreeMap<ObjectType, IdentityRules> {
    let mut all = BTreeMap::new();
    for (kind, section) in type_sections(&root) {
        let mut rules = IdentityRules::default();
        let label = section.text("label");
        if let Some(attributes) = section.section("attributes") {
            for (name, at, value) in attributes.entries() {
                let mut attribute = IdentityAttribute {
                    name: name.to_owned(),
                    place: root.source.place(at),
                    ..Default::default()
                };
                if let Some(options) =
                    attributes.as_section(name, value, format!("attribute {name}"))
                {
                    attribute.multi_valued = options.boolean("multi_valued").unwrap_or_default();
                    attribute.required = options.boolean("required").unwrap_or_default();
                    attribute.recommended = options.boolean("recommended").unwrap_or_default();
                    attribute.unique = options.boolean("unique").unwrap_or_default();
                    for item in options.list("authority") {
                        match item.get_ref() {
                            DeValue::String(system) => attribute.authority.push(system.to_string()),
                            other => root.source.error(
                                item.span().start,
                                format!(
                                    "a system name is needed, not {}",
                                    super::read::kind_name(other)
                                ),
                                None,
                            ),
                        }
                    }
                    attribute.exclusive = options.boolean("exclusive").unwrap_or_default();
                    if attribute.exclusive && attribute.authority.is_empty() {
                        let hint =
                            Some("name it: authority = [\"postroom\"], exclusive = true".into());
                        root.source.error(
                            at,
                            format!("`{name}` is exclusive, but has no authority"),
                            hint,
                        );
                    }
                    attribute.reference = read_reference(&options);
                    attribute.distribution = memberships::read_distribution(&options, &attribute);
                    options.get("generated");
                    options.get("reserved");
                    options.get("max_length");
                    options.get("unique_in");
                    options.report_unknown_keys();
                }
                rules.attributes.push(attribute);
            }
        }
        read_generated(&section, &mut rules, tables);
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
        section.report_unknown_keys();
        all.insert(kind, rules);
    }
    root.report_unknown_keys();
    all
}

/// Reads what an attribute refers to.
fn read_reference(options: &Section<'_>) -> Option<Pointer> {
    let by = options.text("by");
    let named = options.texts("reference");
    if named.is_empty() {
        if let Some((_, span)) = by {
            options.source.error(
                span.start,
                "`by` belongs to references, but this attribute has no `reference`",
                None,
            );
        }
        return None;
    }
    let mut pointer = Pointer {
        kinds: Vec::new(),
        by: by.map(|(by, _)| by),
    };
    for (word, span) in named {
        match ObjectType::parse(&word) {
            Some(kind) => pointer.kinds.push(kind),
            None if word == "any" => {}
            None => options.source.error(
                span.start,
                format!("`{word}` cannot be referenced"),
                Some("choose person, service, group or any".into()),
            ),
        }
    }
    Some(pointer)
}

/// The patterns of generated values, which may read every attribute that is declared.
fn read_generated(section: &Section<'_>, rules: &mut IdentityRules, tables: &Tables) {
    let mut names: BTreeMap<String, bool> = rules
        .attributes
        .iter()
        .map(|a| (a.name.clone(), a.multi_valued))
        .collect();
    names.insert("id".into(), false);
    names.insert("attempt".into(), false);
    let known = ExprScope {
        roots: vec![(Root::Identity, Names::These(&names))],
        tables: Some(tables),
    };
    let Some(attributes) = section.section("attributes") else {
        return;
    };
    for (name, at, value) in attributes.entries() {
        let Some(options) = matches!(value.get_ref(), DeValue::Table(_))
            .then(|| attributes.as_section(name, value, name))
            .flatten()
        else {
            continue;
        };
        let source = options.source;
        let patterns = options.texts("generated");
        let more = options.texts("reserved").len()
            + options.texts("unique_in").len()
            + options.number("max_length").map_or(0, |_| 1);
        if patterns.is_empty() {
            if more > 0 {
                source.error(
                    at,
                    format!("`{name}` has options of generated values, but no `generated`"),
                    Some("add generated = ['…']".into()),
                );
            }
            continue;
        }
        let compiled: Vec<Program> = patterns
            .iter()
            .filter_map(|text| compile_program(source, text, &known))
            .collect();
        let counts = |program: &&Program| program.reads().iter().any(|(_, name)| name == "attempt");
        if compiled.len() == patterns.len()
            && compiled.last().as_ref().is_some_and(|last| !counts(last))
        {
            source.error(
                patterns.last().map_or(at, |(_, span)| span.start),
                "the last pattern yields one name, so a second person of that name gets none",
                Some("add a counter: … + text(identity.attempt)".into()),
            );
        }
        let free_in = read_unique_in(&options);
        let generated = Generated {
            patterns: compiled,
            reserved: options
                .texts("reserved")
                .into_iter()
                .map(|(text, _)| text.trim().to_lowercase())
                .collect(),
            max_length: options.number("max_length").map(|longest| longest as usize),
            unique_in: free_in,
        };
        if let Some(attribute) = rules
            .attributes
            .iter_mut()
            .find(|attribute| attribute.name == name)
        {
            if attribute.multi_valued {
                source.error(
                    at,
                    format!("`{name}` is generated once for life: it cannot be `multi_valued`"),
                    None,
                );
            }
            attribute.generated = Some(generated);
        }
    }
}

/// Reads the attributes of systems in which a generated value must be unused.
fn read_unique_in(options: &Section<'_>) -> Vec<(String, String)> {
    let source = options.source;
    let mut free_in = Vec::new();
    for (text, span) in options.texts("unique_in") {
        match text.split_once('.') {
            Some((system, attribute)) => free_in.push((system.to_owned(), attribute.to_owned())),
            None => source.error(
                span.start,
                format!("`{text}` is not an attribute of a system"),
                Some("\"harbour.uid\"".into()),
            ),
        }
    }
    free_in
}

/// The names that expressions of one section may read.
struct Scopes<'a> {
    account: Option<BTreeMap<String, bool>>,
    identity: BTreeMap<String, bool>,
    tables: &'a Tables,
}

impl Scopes<'_> {
    fn known(&self, roots: &[Root]) -> ExprScope<'_> {
        ExprScope {
            roots: roots
                .iter()
                .map(|root| match root {
                    Root::Account => (
                        *root,
                        self.account.as_ref().map_or(Names::Any, Names::These),
                    ),
                    Root::Identity => (*root, Names::These(&self.identity)),
                })
                .collect(),
            tables: Some(self.tables),
        }
    }
}

/// The names that expressions may use in one type of a system with this schema.
fn expression_scopes<'a>(
    rules: &'a RuleSet,
    kind: ObjectType,
    schema: Option<&Schema>,
) -> Scopes<'a> {
    let mut identity: BTreeMap<String, bool> = rules
        .identities
        .get(&kind)
        .map(|identity| {
            identity
                .attributes
                .iter()
                .map(|a| (a.name.clone(), a.multi_valued))
                .collect()
        })
        .unwrap_or_default();
    // Every identity has these, whatever is declared.
    identity.insert("id".into(), false);
    identity.insert("stage".into(), false);
    identity.insert(crate::model::LEFT_BY.into(), false);
    identity.insert(crate::model::ROLES.into(), true);
    Scopes {
        account: schema.filter(|schema| !schema.is_open).map(|schema| {
            schema
                .attributes
                .iter()
                .map(|(name, def)| (name.clone(), def.multi_valued))
                .collect()
        }),
        identity,
        tables: &rules.tables,
    }
}

/// Compiles an expression that is tried, with the names that a rule there could use.
pub(super) fn compile_expression(
    rules: &RuleSet,
    kind: ObjectType,
    account: Option<Option<&Schema>>,
    source: &str,
) -> Result<Program, crate::expr::ExprError> {
    let schema = account
        .flatten()
        .filter(|schema| !schema.attributes.is_empty());
    let roots: &[Root] = if account.is_some() {
        &[Root::Account, Root::Identity]
    } else {
        &[Root::Identity]
    };
    Program::compile(source, &expression_scopes(rules, kind, schema).known(roots))
}

fn read_system(
    root: Section<'_>,
    rules: &RuleSet,
    schemas: &Schemas,
    blocks: &BTreeMap<ObjectType, SharedMappings<'_>>,
) -> Option<SystemRules> {
    let source = root.source;
    let Some((name, _)) = root.text("system") else {
        source.error(
            0,
            "the file does not name its system",
            Some("start it with: system = \"name\"".into()),
        );
        return None;
    };
    let mut system = SystemRules {
        name: name.clone(),
        file: source.name.to_owned(),
        types: BTreeMap::new(),
    };
    for (kind, section) in type_sections(&root) {
        let schema = schemas
            .get(&name)
            .and_then(|by_type| by_type.get(&kind))
            .filter(|s| !s.attributes.is_empty());
        if !rules.identities.contains_key(&kind) {
            source.error(
                section.at,
                format!("identities.toml does not declare {kind}"),
                Some(format!("add [{kind}.attributes] there")),
            );
        }
        let context = TypeContext {
            kind,
            scopes: &expression_scopes(rules, kind, schema),
            schema,
            rules,
        };
        let none = Vec::new();
        let shared = blocks.get(&kind).unwrap_or(&none);
        system
            .types
            .insert(kind, read_type_rules(section, context, shared));
    }
    root.report_unknown_keys();
    Some(system)
}

/// What the rules of one type of one system refer to.
#[derive(Clone, Copy)]
struct TypeContext<'c> {
    kind: ObjectType,
    scopes: &'c Scopes<'c>,
    schema: Option<&'c Schema>,
    /// The rules that were loaded before.
    rules: &'c RuleSet,
}

fn read_type_rules(
    section: Section<'_>,
    context: TypeContext<'_>,
    blocks: &SharedMappings<'_>,
) -> TypeRules {
    let TypeContext {
        kind,
        scopes,
        schema,
        rules,
    } = context;
    let source = section.source;
    let mut types = TypeRules {
        place: section.place(),
        ..Default::default()
    };
    let inbound = section.section("inbound");
    let outbound = section.section("outbound");
    let (shared_in, shared_out) = (
        shared_sections(&section, blocks, "inbound"),
        shared_sections(&section, blocks, "outbound"),
    );
    let scope_root = if inbound.is_some() || !shared_in.is_empty() {
        Root::Account
    } else {
        Root::Identity
    };
    if let Some(scope) = section.section("scope") {
        types.scope = scope::read_scope(scope, &scopes.known(&[scope_root]), source);
        check_scope_filter(schema, source, &types);
        if scope_root == Root::Identity {
            check_identity_scope(source, &types);
        }
    }
    types.domains = section.section("domains").map(read_domains);
    types.protected = section
        .section("protected")
        .map(|own| read_protected(own, &scopes.known(&[Root::Account])))
        .unwrap_or_default();
    types.matching = read_match_rules(&section, scopes);
    types.inbound = read_with_shared(
        &shared_in,
        inbound.as_ref(),
        &scopes.known(&[Root::Account]),
        &|source, name, at| {
            check_identity_attribute(kind, rules, source, name, at);
        },
    );
    back_links(&types, schema, source);
    let check =
        |source: &RuleSource<'_>, name: &str, at: usize| target_attribute(schema, source, name, at);
    types.outbound = read_with_shared(
        &shared_out,
        outbound.as_ref(),
        &scopes.known(&[Root::Identity]),
        &check,
    );
    types.populations = read_populations(&section, &scopes.known(&[Root::Identity]), &check);
    let of_populations = types.populations.iter().flat_map(|p| &p.outbound);
    for mapping in types.outbound.iter().chain(of_populations) {
        check_kind(mapping, schema, source);
    }
    if let (Some(schema), Some(at)) = (
        schema,
        outbound
            .as_ref()
            .map(|outbound| outbound.at)
            .or(shared_out.first().map(|_| section.at)),
    ) {
        check_required(source, &types, schema, at);
    }
    types.examples = read_examples(&section);
    read_policies(&section, context, &mut types);
    warn_without_match_rule(&section, &types);
    section.report_unknown_keys();
    types
}

fn warn_without_match_rule(section: &Section<'_>, types: &TypeRules) {
    if types.is_target() && types.matching.is_empty() {
        section.source.warn(
            section.at,
            "without a match rule, existing accounts stay orphaned and new ones are created beside them",
            Some("add [[person.match]] with an account and an identity side".into()),
        );
    }
}

/// Checks that the filter can be evaluated.
fn check_scope_filter(schema: Option<&Schema>, source: &RuleSource<'_>, types: &TypeRules) {
    if let Some(filter) = &types.scope.filter
        && let crate::rules::RecordFilter::Ldap(ldap) = &filter.filter
    {
        if let Some((said, instead)) = crate::rules::filters::filter_problem(ldap, schema) {
            source.error_at(&filter.place, said, Some(instead.to_owned()));
        } else if crate::rules::filters::depends_on_back_links(ldap) {
            let text = "the server evaluates this filter, and back-links change without a change of the entry: the result can be as old as the last full read";
            source.warn_at(
                &filter.place,
                text,
                Some("name the group, (memberOf=cn=crew,ou=groups,dc=skerry,dc=example): which is evaluated here, at once".to_owned()),
            );
        }
    }
}

/// Checks that the scope of a system that only receives accounts is about identities.
fn check_identity_scope(source: &RuleSource<'_>, types: &TypeRules) {
    let target_only = "this system only receives accounts, so its scope is about identities";
    if let Some(container) = types.scope.within.first().or(types.scope.except.first()) {
        source.error_at(
            &container.place,
            "a container cannot select identities",
            Some(format!("{target_only}: use a condition")),
        );
    }
    if let Some(filter) = &types.scope.filter {
        source.error_at(
            &filter.place,
            "a protocol filter cannot select identities",
            Some(format!("{target_only}: use a condition")),
        );
    }
    for group in types
        .scope
        .groups
        .iter()
        .chain(&types.scope.not_groups)
        .filter(|group| group.system.is_none())
    {
        source.error_at(
            &group.place,
            format!("the system of the group `{}` is missing", group.name),
            Some(format!("{target_only}: {{ name = \"…\", system = \"…\" }}")),
        );
    }
}

/// Checks that an inbound mapping writes a declared attribute.
fn check_identity_attribute(
    kind: ObjectType,
    rules: &RuleSet,
    source: &RuleSource<'_>,
    name: &str,
    at: usize,
) {
    if let Some(identity) = rules.identities.get(&kind)
        && identity.get(name).is_none()
    {
        let near =
            crate::expr::closest_name(name, identity.attributes.iter().map(|a| a.name.as_str()));
        source.error(
            at,
            format!("identities.toml declares no attribute `{name}`"),
            Some(near.map_or_else(
                || "declare it there, or remove this line".into(),
                |near| format!("did you mean `{near}`?"),
            )),
        );
    }
}

/// Warns about attributes that the target requires and no mapping supplies.
fn check_required(source: &RuleSource<'_>, types: &TypeRules, schema: &Schema, at: usize) {
    let given = |name: &str| {
        types
            .outbound
            .iter()
            .chain(types.populations.iter().flat_map(|p| &p.outbound))
            .any(|m| m.attribute.eq_ignore_ascii_case(name))
    };
    let named = schema.name_attribute.as_deref().and_then(|name| {
        types
            .outbound
            .iter()
            .find(|m| m.attribute.eq_ignore_ascii_case(name))
    });
    let in_name = |name: &str| {
        named.is_some_and(|mapping| {
            mapping
                .program
                .source()
                .to_lowercase()
                .contains(&format!("\"{}=", name.to_lowercase()))
        })
    };
    let given = |name: &str| given(name) || in_name(name);
    state_twice(types, schema, source);
    if let Some(cn) = types
        .outbound
        .iter()
        .find(|m| schema.follows_renames && m.attribute.eq_ignore_ascii_case("cn") && in_name("cn"))
    {
        source.warn_at(
            &cn.place,
            "`cn` is part of the DN here: only `dn` changes it, so this mapping is never sent",
            Some("leave it out".into()),
        );
    }
    for def in schema
        .attributes
        .values()
        .filter(|def| def.required && def.writable && !given(&def.name))
    {
        source.warn(
            at,
            format!(
                "the system requires `{}` for a new account, but no mapping supplies it",
                def.name
            ),
            None,
        );
    }
}

/// Reads what happens to accounts that are deleted, orphaned, changed by others or out of scope.
fn read_policies(section: &Section<'_>, context: TypeContext<'_>, types: &mut TypeRules) {
    types.on_deleted = section
        .choice(
            "on_deleted",
            &[
                ("review", OnDeleted::Ask),
                ("recreate", OnDeleted::Recreate),
                ("ignore", OnDeleted::Ignore),
            ],
        )
        .unwrap_or_default();
    types.on_orphaned = section
        .choice(
            "on_orphaned",
            &[
                ("ignore", OnOrphaned::Ignore),
                ("disable", OnOrphaned::Disable),
                ("review", OnOrphaned::Ask),
            ],
        )
        .unwrap_or_default();
    types.on_drift = section
        .choice(
            "on_drift",
            &[("repair", OnDrift::Repair), ("report", OnDrift::Report)],
        )
        .unwrap_or_default();
    types.on_out_of_scope = section
        .choice(
            "on_out_of_scope",
            &[
                ("disable", OnOutOfScope::Disable),
                ("leave", OnOutOfScope::Leave),
            ],
        )
        .unwrap_or_default();
    let known = context.scopes.known(&[Root::Identity]);
    types.password = section.section("password").and_then(|password| {
        passwords::read_password(password, context.schema, &context.rules.webhooks)
    });
    types.departure = lifecycle::read_departure(section, context.kind, &known, context.schema);
    types.memberships = memberships::read_memberships(section, context.kind, &known, types);
    types.depends_on = section
        .texts("depends_on")
        .into_iter()
        .map(|(name, _)| name)
        .collect();
}

/// Finds expressions that read back-links of a directory: what an entry says of its groups is as
/// old as its last read, since a change of a group does not change the entry. It must not decide
/// about access, and is old where it is only a value.
fn back_links(types: &TypeRules, schema: Option<&Schema>, source: &RuleSource<'_>) {
    if !schema.is_some_and(|schema| schema.refers_by_name) {
        return;
    }
    let read = |program: &Program| {
        let names = program
            .reads()
            .iter()
            .filter(|(root, _)| *root == Root::Account)
            .map(|(_, name)| name);
        names
            .into_iter()
            .find(|name| ["memberof", "ismemberof"].contains(&name.to_lowercase().as_str()))
            .cloned()
    };
    for condition in types
        .scope
        .conditions
        .iter()
        .chain(&types.protected.conditions)
    {
        if let Some(name) = read(&condition.when) {
            let text = format!(
                "`account.{name}` is as old as the entry's last read, so it cannot decide the scope"
            );
            let instead = "use `groups` or `not_groups` of the scope, or a filter such as (memberOf=cn=crew,ou=groups,dc=skerry,dc=example)";
            source.error_at(&condition.place, text, Some(instead.to_owned()));
        }
    }
    for mapping in &types.inbound {
        if let Some(name) = read(&mapping.program) {
            let text = format!(
                "`account.{name}` is as old as the entry's last read: a change of a group does not change the entry"
            );
            source.warn_at(
                &mapping.place,
                text,
                Some("do not grant access by it; roles and scopes can use the groups".to_owned()),
            );
        }
    }
}

/// Attributes in which directories keep whether an account is usable, beside other things.
const STATES: [&str; 3] = [
    "userAccountControl",
    "nsAccountLock",
    "pwdAccountLockedTime",
];

/// Refuses the state of accounts mapped in two ways: each would undo the other.
fn state_twice(types: &TypeRules, schema: &Schema, source: &RuleSource<'_>) {
    let all = || {
        types.outbound.iter().chain(
            types
                .populations
                .iter()
                .flat_map(|population| &population.outbound),
        )
    };
    let Some(state) = schema
        .state_attribute
        .as_deref()
        .filter(|state| all().any(|m| m.attribute.eq_ignore_ascii_case(state)))
    else {
        return;
    };
    for raw in all().filter(|mapping| {
        STATES
            .iter()
            .any(|raw| mapping.attribute.eq_ignore_ascii_case(raw))
    }) {
        source.error_at(
            &raw.place,
            format!("the account state is mapped twice, by `{state}` and by `{}`, and each would undo the other", raw.attribute),
            Some(format!("keep one of them; `{state}` leaves all other flags as they are")),
        );
    }
}

/// An attribute that an outbound mapping names.
fn target_attribute(schema: Option<&Schema>, source: &RuleSource<'_>, name: &str, at: usize) {
    let Some(schema) = schema else { return };
    match schema.get(name) {
        None => {
            let near = crate::expr::closest_name(name, schema.names());
            source.error(
                at,
                format!("the system has no attribute `{name}`"),
                Some(near.map_or_else(
                    || "`eager-tide systems show SYSTEM --schema` lists what it has".into(),
                    |near| format!("did you mean `{near}`?"),
                )),
            );
        }
        Some(def) if !def.writable => {
            source.error(at, format!("`{name}` is read-only in the system"), None)
        }
        Some(_) => {}
    }
}

/// A value that can never be of the kind that the attribute holds.
fn check_kind(mapping: &Mapping, schema: Option<&Schema>, source: &RuleSource<'_>) {
    let (Some(def), Some(gives)) = (
        schema.and_then(|schema| schema.get(&mapping.attribute)),
        mapping.program.result_kind(),
    ) else {
        return;
    };
    let holds = def.kind.label();
    let fits = gives == holds
        || match def.kind {
            ValueKind::Text | ValueKind::Reference => gives == "text" || gives == "a number",
            // A text is parsed when its value is known.
            ValueKind::Bool | ValueKind::Int | ValueKind::Time => gives == "text",
            ValueKind::Bytes | ValueKind::Complex => true,
        };
    if !fits {
        let help = (def.kind == ValueKind::Text)
            .then(|| format!("text({}) turns it into text", mapping.program.source()));
        source.error_at(
            &mapping.place,
            format!("`{}` holds {holds}, but this is always {gives}", def.name),
            help,
        );
    }
}

/// Checks that an item of a list, such as a `role`, has a name of its own. `others` are the names of
/// the items before it.
fn check_name<'n>(
    section: &Section<'_>,
    name: &Option<(String, Range<usize>)>,
    item: &str,
    example: &str,
    mut others: impl Iterator<Item = &'n String>,
) {
    let source = section.source;
    match name {
        None => {
            let article = if item.starts_with(['a', 'e', 'i', 'o', 'u']) {
                "an"
            } else {
                "a"
            };
            let text = format!("{article} {item} needs a name");
            source.error(section.at, text, Some(example.to_owned()));
        }
        Some((name, span)) if others.any(|other| other == name) => {
            source.error(span.start, format!("there are two {item}s `{name}`"), None);
        }
        Some(_) => {}
    }
}

/// Reads the name of a webhook, and checks that it is declared.
fn read_webhook(rules: &RuleSet, section: &Section<'_>) -> Option<(String, Range<usize>)> {
    let webhook = section.text("webhook");
    if let Some((name, span)) = &webhook
        && !rules.webhooks.contains_key(name)
    {
        section.source.error(
            span.start,
            format!("there is no webhook `{name}`"),
            Some("declare it in webhooks.toml".into()),
        );
    }
    webhook
}

fn compile_program(
    source: &RuleSource<'_>,
    text: &(String, Range<usize>),
    known: &ExprScope<'_>,
) -> Option<Program> {
    match Program::compile(&text.0, known) {
        Ok(program) => Some(program),
        Err(error) => {
            source.expression_error(&text.1, &error);
            None
        }
    }
}

#[cfg(test)]
#[path = "../tests.rs"]
mod tests;
