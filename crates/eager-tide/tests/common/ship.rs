//! A small crew in a feed, and a directory that gets their accounts: for tests that look at what a
//! real server holds afterwards.
#![allow(dead_code, clippy::unwrap_used)]

use crate::common::{Service, client, said, text};
use ldap3::{Ldap, LdapConnAsync, LdapConnSettings, Mod, Scope, SearchEntry};
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::path::Path;
use tide_ldap::ldif::LdifEntry;
use tide_standins::slapd::Slapd;
use tide_standins::world::BASE;

/// The columns of the feed.
pub const COLUMNS: [&str; 6] = ["number", "name", "dept", "active", "manager", "ends"];

/// The rule file of `hall` as far as every test of a directory has it; `more` continues its
/// outbound mappings.
pub fn hall(more: &str) -> String {
    let head = r#"
system = "hall"
[[person.match]]
name = "number"
account = 'account.employeeNumber'
identity = 'identity.number'
[person.outbound]
dn             = '"cn=" + identity.name + ",ou=" + identity.dept + ",dc=skerry,dc=example"'
objectClass    = { value = '["inetOrgPerson"]', apply = "on_create" }
cn             = 'identity.name'
sn             = { value = 'identity.name', required = true }
employeeNumber = 'identity.number'
"#;
    format!("{head}{more}")
}

/// A tree with these units, and with groups that hold nobody.
pub fn tree(units: &[&str], groups: &[&str]) -> Vec<LdifEntry> {
    let mut all = vec![
        LdifEntry::new(BASE)
            .with("objectClass", &["dcObject", "organization"])
            .with("dc", &["skerry"])
            .with("o", &["Skerry Line"]),
        LdifEntry::new(format!("cn=nobody,{BASE}"))
            .with("objectClass", &["organizationalRole"])
            .with("cn", &["nobody"]),
    ];
    for unit in units {
        all.push(
            LdifEntry::new(format!("ou={unit},{BASE}"))
                .with("objectClass", &["organizationalUnit"])
                .with("ou", &[unit]),
        );
    }
    for group in groups {
        let entry = LdifEntry::new(format!("cn={group},ou=groups,{BASE}"))
            .with("objectClass", &["groupOfNames"]);
        all.push(
            entry
                .with("cn", &[group])
                .with("member", &[&format!("cn=nobody,{BASE}")]),
        );
    }
    all
}

/// A slapd, and its administrator.
pub fn reach(slapd: &Slapd) -> Reach<'_> {
    Reach {
        url: &slapd.tls_url,
        ca_pem: &slapd.certificates.ca_pem,
        bind_dn: &slapd.admin_dn,
        password: &slapd.admin_password,
        base: BASE,
    }
}

/// A service with the feed `crew` and the directory `hall`.
pub struct Ship {
    pub service: Service,
    pub folder: tempfile::TempDir,
    /// What the feed holds, by number.
    pub crew: BTreeMap<String, BTreeMap<&'static str, String>>,
    ldap: Ldap,
    base: String,
}

/// Where the directory is, and who may do everything there.
pub struct Reach<'a> {
    pub url: &'a str,
    pub ca_pem: &'a str,
    pub bind_dn: &'a str,
    pub password: &'a str,
    pub base: &'a str,
}

const IDENTITIES: &str = "[person]\nlabel = \"name\"\n[person.attributes]\nnumber = { required = true, unique = true }\nname = {}\n\
    dept = {}\nactive = {}\nends = {}\nmanager = { reference = [\"person\"], by = \"number\" }\n";
const CREW: &str = "system = \"crew\"\n[person.inbound]\nnumber = 'account.number'\nname = 'account.name'\ndept = 'account.dept'\n\
    active = 'account.active != \"no\"'\nmanager = 'account.manager'\nends = 'account.ends'\n";

impl Ship {
    /// Starts a service, and connects it; `hall` is the target's rule file.
    pub async fn start(reach: &Reach<'_>, hall: &str, writable: &str) -> Ship {
        Ship::start_as(reach, (reach.bind_dn, reach.password), hall, writable).await
    }

    /// The same, with a service account that may do less.
    pub async fn start_as(
        reach: &Reach<'_>,
        (bind_dn, password): (&str, &str),
        hall: &str,
        writable: &str,
    ) -> Ship {
        let folder = tempfile::tempdir().unwrap();
        let ca = folder.path().join("ca.pem");
        std::fs::write(&ca, reach.ca_pem).unwrap();
        let service = Service::start(&folder.path().join("data"));
        let feeds = folder.path().join("data/feeds/crew");
        std::fs::create_dir_all(&feeds).unwrap();
        let _ = rustls::crypto::ring::default_provider().install_default();
        let settings = LdapConnSettings::new().set_no_tls_verify(true);
        let (conn, mut ldap) = LdapConnAsync::with_settings(settings, reach.url)
            .await
            .unwrap();
        ldap3::drive!(conn);
        ldap.simple_bind(reach.bind_dn, reach.password)
            .await
            .unwrap()
            .success()
            .unwrap();
        let mut ship = Ship {
            service,
            folder,
            crew: BTreeMap::new(),
            ldap,
            base: reach.base.to_owned(),
        };
        // A feed that holds nobody is refused.
        ship.set("1", &[("name", "Captain Skerry"), ("dept", "deck")]);
        said(
            &ship.service,
            &[
                "systems",
                "add",
                "crew",
                "--kind",
                "feed",
                "--path",
                feeds.to_str().unwrap(),
                "--key",
                "number",
            ],
            0,
        );
        let add = [
            "systems",
            "add",
            "hall",
            "--kind",
            "ldap",
            "--address",
            reach.url,
            "--as",
            "target",
            "--ca",
            ca.to_str().unwrap(),
        ];
        let add = [&add[..], &["--bind-dn", bind_dn, "--base-dn", reach.base]].concat();
        let added = client(&ship.service.url, &ship.service.token, &add, password);
        assert!(added.status.success(), "{}", text(&added));
        // Everybody moves at once here.
        ship.rules(
            "guards.toml",
            "[[guard]]\nchange = \"revoke\"\nmax_percent = 100\n",
        );
        ship.rules("identities.toml", IDENTITIES);
        ship.rules("crew.toml", CREW);
        ship.rules("hall.toml", hall);
        ship.publish();
        said(
            &ship.service,
            &["systems", "set", "hall", "--writable", writable],
            0,
        );
        said(&ship.service, &["systems", "arm", "hall"], 0);
        ship
    }

    pub fn path(&self) -> &Path {
        self.folder.path()
    }

    /// Writes a rule file; [`Ship::publish`] makes it count.
    pub fn rules(&self, name: &str, text: &str) {
        let rules = self.path().join("rules");
        std::fs::create_dir_all(&rules).unwrap();
        std::fs::write(rules.join(name), text).unwrap();
    }

    pub fn publish(&self) {
        said(
            &self.service,
            &[
                "rules",
                "publish",
                self.path().join("rules").to_str().unwrap(),
            ],
            0,
        );
    }

    /// Somebody's values in the feed.
    pub fn set(&mut self, number: &str, values: &[(&'static str, &str)]) {
        let row = self.crew.entry(number.to_owned()).or_default();
        row.insert("number", number.to_owned());
        row.extend(
            values
                .iter()
                .map(|(name, value)| (*name, (*value).to_owned())),
        );
        self.feed();
    }

    /// Takes somebody out of the feed.
    pub fn remove(&mut self, number: &str) {
        self.crew.remove(number);
        self.feed();
    }

    fn feed(&self) {
        let row = |row: &BTreeMap<&str, String>| {
            COLUMNS
                .map(|name| row.get(name).cloned().unwrap_or_default())
                .join(";")
        };
        let rows: Vec<String> = std::iter::once(COLUMNS.join(";"))
            .chain(self.crew.values().map(row))
            .collect();
        let place = self.path().join("data/feeds/crew/crew.csv");
        std::fs::write(place.with_extension("part"), rows.join("\n") + "\n").unwrap();
        std::fs::rename(place.with_extension("part"), place).unwrap();
    }

    /// A run, which must not fail.
    pub fn run(&self) -> String {
        said(&self.service, &["run"], 0)
    }

    /// Runs until nothing is left to do.
    pub fn rest(&self) {
        for _ in 0..6 {
            if self.run().contains("everything is in sync") {
                return;
            }
        }
    }

    /// The identity with a name.
    pub fn identity(&self, name: &str) -> String {
        let found = said(
            &self.service,
            &["identities", "list", "--search", name, "--output", "json"],
            0,
        );
        let found: serde_json::Value = serde_json::from_str(&found).unwrap();
        found[0]["id"]
            .as_str()
            .unwrap_or_else(|| panic!("{name}: {found}"))
            .to_owned()
    }

    /// An entry of the directory.
    pub async fn entry(&mut self, filter: &str) -> Option<SearchEntry> {
        let all = self
            .ldap
            .search(&self.base, Scope::Subtree, filter, vec!["*", "+"])
            .await
            .unwrap()
            .success()
            .unwrap()
            .0;
        let mut found: Vec<SearchEntry> = all
            .into_iter()
            .filter(|entry| !entry.is_ref())
            .map(SearchEntry::construct)
            .collect();
        assert!(found.len() < 2, "{filter} finds {found:?}");
        found.pop()
    }

    /// The security identifier of an entry of a domain controller (S-R-I-S…).
    pub async fn sid(&mut self, filter: &str) -> String {
        let octets = self.entry(filter).await.unwrap().bin_attrs["objectSid"][0].clone();
        let parts = octets[8..]
            .chunks(4)
            .map(|part| u32::from_le_bytes(part.try_into().unwrap()).to_string());
        format!(
            "S-{}-{}-{}",
            octets[0],
            octets[7],
            parts.collect::<Vec<_>>().join("-")
        )
    }

    /// By which GUID access control names an attribute of a domain controller.
    pub async fn schema_guid(&mut self, attribute: &str) -> String {
        let base = format!("CN=Schema,CN=Configuration,{}", self.base);
        let filter = format!("(lDAPDisplayName={attribute})");
        let all = self
            .ldap
            .search(&base, Scope::OneLevel, &filter, vec!["schemaIDGUID"])
            .await
            .unwrap()
            .success()
            .unwrap()
            .0;
        let entry = all
            .into_iter()
            .next()
            .map(SearchEntry::construct)
            .unwrap_or_else(|| panic!("no attribute {attribute}"));
        let octets = entry
            .bin_attrs
            .get("schemaIDGUID")
            .map(|values| values[0].clone());
        let octets = octets.unwrap_or_else(|| entry.attrs["schemaIDGUID"][0].clone().into_bytes());
        tide_ldap::syntax::object_guid(&octets).unwrap()
    }

    /// The values of an entry.
    pub async fn values(&mut self, filter: &str, attribute: &str) -> Vec<String> {
        let entry = self
            .entry(filter)
            .await
            .unwrap_or_else(|| panic!("nothing is found by {filter}"));
        let found = entry
            .attrs
            .into_iter()
            .find(|(name, _)| name.eq_ignore_ascii_case(attribute));
        found.map(|(_, values)| values).unwrap_or_default()
    }

    /// The members of a group, in lower case.
    pub async fn members(&mut self, group: &str) -> BTreeSet<String> {
        self.values(&format!("(cn={group})"), "member")
            .await
            .iter()
            .map(|member| member.to_lowercase())
            .collect()
    }

    /// Adds an entry by hand.
    pub async fn add(&mut self, dn: &str, values: &[(&str, &[&str])]) {
        let set = |values: &[&str]| {
            values
                .iter()
                .map(|value| (*value).to_owned())
                .collect::<HashSet<String>>()
        };
        let attributes = values
            .iter()
            .map(|(name, values)| ((*name).to_owned(), set(values)))
            .collect();
        self.ldap
            .add(dn, attributes)
            .await
            .unwrap()
            .success()
            .unwrap();
    }

    /// Replaces an attribute by hand; without values it goes.
    pub async fn put(&mut self, dn: &str, attribute: &str, values: &[&str]) {
        let values = values.iter().map(|value| (*value).to_owned()).collect();
        self.ldap
            .modify(dn, vec![Mod::Replace(attribute.to_owned(), values)])
            .await
            .unwrap()
            .success()
            .unwrap();
    }

    /// Every group with its members as they should be: whoever is of a department is in its crew,
    /// and everybody is aboard.
    pub async fn memberships_are_right(&mut self, departments: &[&str], after: &str) {
        let mut names: HashMap<String, String> = HashMap::new();
        for number in self.crew.keys().cloned().collect::<Vec<_>>() {
            let entry = self
                .entry(&format!("(employeeNumber={number})"))
                .await
                .expect("an account");
            names.insert(number, entry.dn.to_lowercase());
        }
        for group in departments
            .iter()
            .map(|department| format!("{department}-crew"))
            .chain(["aboard".to_owned()])
        {
            let here = self
                .crew
                .values()
                .filter(|row| group == "aboard" || format!("{}-crew", row["dept"]) == group);
            let wanted: BTreeSet<String> = here.map(|row| names[&row["number"]].clone()).collect();
            let mut held = self.members(&group).await;
            held.retain(|member| !member.starts_with("cn=nobody,"));
            assert_eq!(held, wanted, "{group} after {after}");
        }
    }
}
