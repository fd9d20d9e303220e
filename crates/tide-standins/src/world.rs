//! Skerry Line, an island ferry operator with seasonal crews: about 300 made-up people, always the
//! same ones for the same seed.

use serde_json::{Value, json};
use tide_ldap::dn::escape_value;
use tide_ldap::ldif::LdifEntry;

/// The directory's top entry.
pub const BASE: &str = "dc=skerry,dc=example";
/// The seed of the demo.
pub const SEED: u64 = 1907;
/// How many people the demo has.
pub const PEOPLE: usize = 300;

/// One person of Skerry Line.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Crew {
    /// The employee number; blank for a visitor.
    pub number: String,
    /// The login name.
    pub uid: String,
    /// The given name; blank for people with one name.
    pub given: String,
    /// The name people go by, where it is another.
    pub preferred: String,
    /// The family name, or the only name.
    pub family: String,
    /// The address as it was typed.
    pub mail: String,
    /// The department's code.
    pub department: &'static str,
    /// The home port.
    pub port: &'static str,
    /// The rank or trade.
    pub title: &'static str,
    /// Telephone numbers.
    pub phones: Vec<String>,
    /// `permanent`, `seasonal` or `contract`.
    pub contract: &'static str,
    /// Locked by hand in the directory.
    pub locked: bool,
}

/// Department codes and their names.
pub const DEPARTMENTS: [(&str, &str); 6] = [
    ("10", "Deck"),
    ("20", "Engine Room"),
    ("30", "Terminal"),
    ("40", "Ticketing"),
    ("50", "Galley"),
    ("60", "Shore Office"),
];

const PORTS: [&str; 5] = [
    "Northhaven",
    "Gull Sound",
    "Outer Skerry",
    "Tarn Quay",
    "Westmole",
];
const TITLES: [&str; 8] = [
    "Able Seafarer",
    "Deckhand",
    "Second Engineer",
    "Purser",
    "Ticket Agent",
    "Cook",
    "Terminal Host",
    "Planner",
];

const GIVEN: [&str; 60] = [
    "Ada",
    "Eiko",
    "Jón",
    "Siân",
    "Ødegaard",
    "Łucja",
    "Zoë",
    "Nuñez",
    "Anaïs",
    "Müge",
    "Éowen",
    "Þóra",
    "Ilse",
    "Bram",
    "Maeve",
    "Tadhg",
    "Ольга",
    "Мирон",
    "Ярина",
    "Θάλεια",
    "Νίκος",
    "نورا",
    "سامر",
    "ליאור",
    "שירה",
    "आरव",
    "मीरा",
    "暁",
    "凛",
    "美咲",
    "지우",
    "서준",
    "小雨",
    "子轩",
    "ธนา",
    "มาลี",
    "Thu Hà",
    "Quân",
    "Ngozi",
    "Chidi",
    "Amahle",
    "Kaveh",
    "Roxana",
    "Gülşen",
    "Emre",
    "Ioana",
    "Răzvan",
    "Žofia",
    "Ľubica",
    "Dušan",
    "Ķirs",
    "Jūra",
    "Mette",
    "Søren",
    "Aino",
    "Väinö",
    "Mary-Jo",
    "Jean Luc",
    "Ana Sofía",
    "Pól",
];
const FAMILY: [&str; 60] = [
    "Lind",
    "D'Amberg",
    "Vasko-Lind",
    "van der Meer",
    "Ó Domhnaill",
    "Nic Eoin",
    "af Skäret",
    "de la Roche",
    "MacAskill",
    "O'Hara",
    "Þórsdóttir",
    "Bjørnstad",
    "Łoś",
    "Müller-Öst",
    "Šimůnek",
    "Ñandú",
    "Çelik",
    "Ștefan",
    "Ağaoğlu",
    "Ērglis",
    "Морозова",
    "Ткаченко",
    "Соколов",
    "Παπαδή",
    "Κυριάκου",
    "الحداد",
    "منصور",
    "בר־לב",
    "כהן",
    "शर्मा",
    "पटेल",
    "佐藤",
    "高橋",
    "김",
    "박",
    "王",
    "李",
    "ศรีสุข",
    "Nguyễn",
    "Trần",
    "Okafor",
    "Dlamini",
    "Farrokhzad",
    "von Holm",
    "Holm",
    "Sund",
    "Strand",
    "Berg",
    "Quist",
    "Reef",
    "Tanger",
    "Wick",
    "Yell",
    "Unst",
    "Fair",
    "Brough",
    "St. Clair",
    "Ap Rhys",
    "Fitz Moor",
    "Lo",
];

/// A small repeatable source of numbers (splitmix64): the same on every machine and in every
/// version, which a random library does not promise.
pub struct Dice(u64);

impl Dice {
    /// A source that always gives the same for the same seed.
    pub fn new(seed: u64) -> Self {
        Dice(seed)
    }

    /// A number from 0 up to, and not including, another.
    pub fn roll(&mut self, below: usize) -> usize {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        ((z ^ (z >> 31)) % below as u64) as usize
    }

    fn of<T: Copy>(&mut self, from: &[T]) -> T {
        from[self.roll(from.len())]
    }
}

/// A name in plain Latin letters, as a clerk without the right keys types it.
pub fn latin_name(text: &str) -> String {
    deunicode::deunicode(text).trim().to_owned()
}

fn latin(text: &str) -> String {
    deunicode::deunicode(text)
        .to_lowercase()
        .chars()
        .filter(char::is_ascii_alphanumeric)
        .collect()
}

/// The people, always the same for the same seed.
pub fn people(seed: u64, count: usize) -> Vec<Crew> {
    let mut dice = Dice(seed);
    let mut crew: Vec<Crew> = Vec::with_capacity(count);
    let mut taken = std::collections::HashSet::new();
    for n in 0..count {
        let one_name = n % 75 == 40;
        let given = if one_name { "" } else { dice.of(&GIVEN) };
        let family = dice.of(&FAMILY);
        let local = match (latin(given), latin(family)) {
            (given, family) if given.is_empty() => family,
            (given, family) => format!("{given}.{family}"),
        };
        let mut uid = local.clone();
        for extra in 2.. {
            if taken.insert(uid.clone()) {
                break;
            }
            uid = format!("{local}{extra}");
        }
        let (department, _) = dice.of(&DEPARTMENTS);
        let mail = match n % 23 {
            // Typed with capitals, or with a blank behind.
            3 => format!("{}@Skerry.Example", uid.to_uppercase()),
            7 => format!("{uid}@skerry.example"),
            _ => format!("{uid}@skerry.example"),
        };
        let mut phones = vec![format!("+99 555 {:04}", 1000 + n)];
        if n % 4 == 0 {
            phones.push(format!("+99 556 {:04}", 1000 + n));
        }
        crew.push(Crew {
            number: format!("{}", 1001 + n),
            uid,
            given: given.to_owned(),
            preferred: if n % 19 == 5 && !one_name {
                dice.of(&GIVEN).to_owned()
            } else {
                String::new()
            },
            family: family.to_owned(),
            mail,
            department,
            port: dice.of(&PORTS),
            title: dice.of(&TITLES),
            phones,
            contract: dice.of(&["permanent", "permanent", "seasonal", "contract"]),
            locked: n % 61 == 17,
        });
    }
    let last = crew.len();
    if last > 200 {
        // What every directory holds: a missing address, a foreign one, a number used twice, and
        // one without a number.
        crew[30].mail = String::new();
        crew[131].mail = String::new();
        crew[55].mail = "agent@elsewhere.example".into();
        crew[91].mail = "purser@elsewhere.example".into();
        crew[180].number = crew[179].number.clone();
        crew[77].number = String::new();
    }
    crew
}

impl Crew {
    /// The name as the directory shows it.
    pub fn common_name(&self) -> String {
        if self.given.is_empty() {
            self.family.clone()
        } else {
            format!("{} {}", self.given, self.family)
        }
    }

    /// The container in which the person stands.
    pub fn container(&self) -> String {
        let name = DEPARTMENTS
            .iter()
            .find(|(code, _)| *code == self.department)
            .map_or("Deck", |(_, name)| name);
        format!("ou={name},ou=people,{BASE}")
    }

    /// The person's name in the tree.
    pub fn dn(&self) -> String {
        format!("uid={},{}", escape_value(&self.uid), self.container())
    }

    /// The person's entry.
    pub fn entry(&self) -> LdifEntry {
        let phones: Vec<&str> = self.phones.iter().map(String::as_str).collect();
        LdifEntry::new(self.dn())
            .with("objectClass", &["inetOrgPerson"])
            .with("uid", &[&self.uid])
            .with("cn", &[&self.common_name()])
            .with("sn", &[&self.family])
            .with("givenName", &[&self.given])
            .with("displayName", &[&self.preferred_name()])
            .with("mail", &[&self.mail])
            .with("employeeNumber", &[&self.number])
            .with("departmentNumber", &[self.department])
            .with("l", &[self.port])
            .with("title", &[self.title])
            .with("telephoneNumber", &phones)
            .with("employeeType", &[self.contract])
            .with(
                "pwdAccountLockedTime",
                &[if self.locked { "000001010000Z" } else { "" }],
            )
    }

    fn preferred_name(&self) -> String {
        if self.preferred.is_empty() {
            String::new()
        } else {
            format!("{} {}", self.preferred, self.family)
        }
    }
}

/// The whole directory, top entry first. The service account's password is given by the caller.
pub fn directory(people: &[Crew], service_password: &str) -> Vec<LdifEntry> {
    let unit = |dn: String, name: &str| {
        LdifEntry::new(dn)
            .with("objectClass", &["organizationalUnit"])
            .with("ou", &[name])
    };
    let mut entries = vec![
        LdifEntry::new(BASE)
            .with("objectClass", &["dcObject", "organization"])
            .with("dc", &["skerry"])
            .with("o", &["Skerry Line"]),
        unit(format!("ou=people,{BASE}"), "people"),
        unit(format!("ou=former,{BASE}"), "former"),
        unit(format!("ou=services,{BASE}"), "services"),
        unit(format!("ou=groups,{BASE}"), "groups"),
        unit(format!("ou=Kiosks,ou=people,{BASE}"), "Kiosks"),
    ];
    for (_, name) in DEPARTMENTS {
        entries.push(unit(format!("ou={name},ou=people,{BASE}"), name));
    }
    entries.push(
        LdifEntry::new(format!("cn=eager-tide,ou=services,{BASE}"))
            .with(
                "objectClass",
                &["applicationProcess", "simpleSecurityObject"],
            )
            .with("cn", &["eager-tide"])
            .with("userPassword", &[service_password]),
    );
    for n in 1..=4 {
        entries.push(
            LdifEntry::new(format!("uid=kiosk{n},ou=Kiosks,ou=people,{BASE}"))
                .with("objectClass", &["inetOrgPerson"])
                .with("uid", &[&format!("kiosk{n}")])
                .with("cn", &[&format!("Ticket Kiosk {n}")])
                .with("sn", &["Kiosk"]),
        );
    }
    for name in ["Old Purser", "Retired Mate"] {
        let uid = latin(name);
        entries.push(
            LdifEntry::new(format!("uid={uid},ou=former,{BASE}"))
                .with("objectClass", &["inetOrgPerson"])
                .with("uid", &[&uid])
                .with("cn", &[name])
                .with("sn", &[name])
                .with(
                    "employeeNumber",
                    &[if name == "Old Purser" { "901" } else { "902" }],
                )
                .with("mail", &[&format!("{uid}@skerry.example")]),
        );
    }
    add_groups(people, &mut entries);
    entries
}

/// Adds the groups with their members.
fn add_groups(people: &[Crew], entries: &mut Vec<LdifEntry>) {
    entries.extend(
        people
            .iter()
            .enumerate()
            .map(|(at, person)| person.entry().with("manager", &[&manager(people, at)])),
    );
    let members: Vec<String> = people
        .iter()
        .filter(|p| p.department == "10")
        .map(Crew::dn)
        .collect();
    let members: Vec<&str> = members.iter().map(String::as_str).collect();
    let group = |name: &str, members: &[&str]| {
        LdifEntry::new(format!("cn={name},ou=groups,{BASE}"))
            .with("objectClass", &["groupOfNames"])
            .with("cn", &[name])
            .with("member", members)
    };
    // A group of this class cannot be empty.
    if !members.is_empty() {
        entries.push(group("deck-watch", &members));
        // A nested group with a direct member beside it.
        let planners: Vec<String> = people
            .iter()
            .filter(|p| p.title == "Planner")
            .take(6)
            .map(Crew::dn)
            .collect();
        let watch = format!("cn=deck-watch,ou=groups,{BASE}");
        let all: Vec<&str> = planners
            .iter()
            .map(String::as_str)
            .chain([watch.as_str()])
            .collect();
        entries.push(group("sailing-plan", &all));
    }
}

/// Whom a person reports to: the first of the department, who reports to the first of the shore
/// office. That one reports to the first of the deck: reporting lines have circles, and nothing may
/// trip over one.
fn manager(people: &[Crew], at: usize) -> String {
    let first = |department: &str| {
        people
            .iter()
            .position(|person| person.department == department)
    };
    let head = first(people[at].department).filter(|head| *head != at);
    let above = head.or_else(|| {
        first(if people[at].department == "60" {
            "10"
        } else {
            "60"
        })
    });
    people[above.unwrap_or(at)].dn()
}

/// The existing accounts of the crew planning service: most belong to people, some are ambiguous, a
/// few are orphaned.
pub fn berthing(people: &[Crew]) -> Vec<Value> {
    let account = |person: &Crew, number: &str, mail: &str, name: String| {
        let mut user = json!({
            "schemas": [tide_scim::USER, tide_scim::ENTERPRISE], "userName": mail, "displayName": name, "active": true,
            "name": {"givenName": person.given, "familyName": person.family},
            "emails": [{"type": "work", "value": mail}],
        });
        if !number.is_empty() {
            user[tide_scim::ENTERPRISE] = json!({"employeeNumber": number});
        }
        user
    };
    let mut users = Vec::new();
    for (n, person) in people.iter().enumerate() {
        let (number, mail) = (person.number.as_str(), person.mail.to_lowercase());
        match n % 10 {
            // Known by its number, with an older address or spelling.
            0..=2 if n % 30 == 10 => users.push(account(
                person,
                number,
                &format!("old.{mail}"),
                person.common_name(),
            )),
            0..=2 => users.push(account(
                person,
                number,
                &mail,
                person.common_name().to_uppercase(),
            )),
            // Known by its address alone.
            3 if !mail.is_empty() => users.push(account(person, "", &mail, person.common_name())),
            _ => {}
        }
    }
    if people.len() > 200 {
        // Doubtful: the address fits, the number is another.
        for n in [44, 95] {
            users.push(account(
                &people[n],
                &format!("88{n}"),
                &people[n].mail.to_lowercase(),
                people[n].common_name(),
            ));
        }
        // Ambiguous: two accounts with one number.
        for n in 1..=2 {
            users.push(account(
                &people[66],
                &people[66].number,
                &format!("spare{n}@skerry.example"),
                people[66].common_name(),
            ));
        }
    }
    for name in ["Dock Radio", "Harbour Desk", "Night Watch", "Slip Planner"] {
        users.push(json!({"schemas": [tide_scim::USER], "userName": format!("{}@berthing.example", latin(name)), "displayName": name, "active": true}));
    }
    users.retain(|user| {
        user["userName"]
            .as_str()
            .is_some_and(|name| !name.is_empty())
    });
    let mut names = std::collections::HashSet::new();
    users.retain(|user| names.insert(user["userName"].as_str().unwrap_or_default().to_owned()));
    users
}

/// The feed of the personnel office: all people with a number, and a few invalid rows.
pub fn roster(people: &[Crew]) -> String {
    let mut text = "number;first_name;family_name;contract;start;end;status\n".to_owned();
    let mut seen = std::collections::HashSet::new();
    for (n, person) in people
        .iter()
        .enumerate()
        .filter(|(_, p)| !p.number.is_empty())
    {
        // One number stands in the directory twice; in the roster it is one person's.
        if !seen.insert(person.number.as_str()) {
            continue;
        }
        let end = if person.contract == "permanent" {
            String::new()
        } else {
            format!("2027-{:02}-28", 1 + n % 9)
        };
        let quoted = |text: &str| {
            if text.contains([';', '"']) {
                format!("\"{}\"", text.replace('"', "\"\""))
            } else {
                text.to_owned()
            }
        };
        let start = format!("20{:02}-{:02}-01", 10 + n % 16, 1 + n % 12);
        text.push_str(&format!(
            "{};{};{};{};{start};{end};employed\n",
            person.number,
            quoted(&person.given),
            quoted(&person.family),
            person.contract
        ));
    }
    text.push_str("9001;Signed;Elsewhere;seasonal;2026-12-01;;cancelled\n");
    text.push_str("9002;One;Field;too;many;2026-12-01;;employed\n");
    text.push_str(";Nameless;Number;seasonal;2026-12-01;;employed\n");
    text
}

/// Groups that the training service has from the start: duties are trained for in them.
pub const TRAINING: [&str; 3] = ["mooring", "lookout", "drills"];

/// Systems that the demo adds to the first two, with their rules.
pub fn more_rules() -> [(&'static str, &'static str); 7] {
    [
        ("licenses.toml", include_str!("../rules/licenses.toml")),
        (
            "notifications.toml",
            include_str!("../rules/notifications.toml"),
        ),
        ("roles.toml", include_str!("../rules/roles.toml")),
        ("lifecycle.toml", include_str!("../rules/lifecycle.toml")),
        ("roster.toml", include_str!("../rules/roster.toml")),
        ("classroom.toml", include_str!("../rules/classroom.toml")),
        ("postroom.toml", include_str!("../rules/postroom.toml")),
    ]
}

/// The rule set of the demo, file by file.
pub fn rules() -> [(&'static str, &'static str); 6] {
    [
        ("identities.toml", include_str!("../rules/identities.toml")),
        (
            "shared_mappings.toml",
            include_str!("../rules/shared_mappings.toml"),
        ),
        ("tables.toml", include_str!("../rules/tables.toml")),
        ("guards.toml", include_str!("../rules/guards.toml")),
        ("harbour.toml", include_str!("../rules/harbour.toml")),
        ("berthing.toml", include_str!("../rules/berthing.toml")),
    ]
}

/// The same without groups and without whom people report to, for who counts what happens to people
/// alone.
pub fn rules_of_people() -> Vec<(&'static str, String)> {
    let of_people = |text: &str| {
        let mut keep = true;
        let mut kept = String::new();
        for line in text.lines() {
            if line.starts_with('[') {
                keep = !line.contains("[group");
            }
            if keep && !line.starts_with("manager") && !line.starts_with("\"enterprise.manager") {
                kept.push_str(line);
                kept.push('\n');
            }
        }
        kept
    };
    rules()
        .into_iter()
        .map(|(name, text)| (name, of_people(text)))
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_same_seed_gives_the_same_people_without_duplicates() {
        let one = people(SEED, PEOPLE);
        assert_eq!(one, people(SEED, PEOPLE));
        let mut dns: Vec<String> = one.iter().map(Crew::dn).collect();
        dns.sort();
        dns.dedup();
        assert_eq!(dns.len(), PEOPLE);
        assert!(
            one.iter().any(|p| p.given.is_empty()) && one.iter().any(|p| p.family.contains('\''))
        );
        assert!(one.iter().any(|p| !p.family.is_ascii()));
    }

    #[test]
    fn the_service_already_holds_some_of_them() {
        let people = people(SEED, PEOPLE);
        let users = berthing(&people);
        assert!((80..140).contains(&users.len()), "{}", users.len());
    }
}
