//! `eager-tide demo`: Skerry Line's directory, a service to feed, and Eager Tide between them.

use crate::{play, season, serve};
use anyhow::Context;
use clap::{Args, ValueEnum};
use std::net::SocketAddr;
use std::process::ExitCode;
use std::sync::Arc;
use tide_core::rules::RuleFile;
use tide_core::states::SystemKind;
use tide_engine::{Engine, NewSystem, SystemUpdate};
use tide_standins::directory::Directory;
use tide_standins::scim_service::{Manner, ScimService};
use tide_standins::slapd::{self, Slapd};
use tide_standins::world::{self, BASE};

/// Which directory the demo uses.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Choice {
    /// slapd where it is installed, else the stand-in
    Auto,
    /// OpenLDAP's slapd
    Slapd,
    /// The small LDAP server inside this binary
    Standin,
}

/// Options of `demo`.
#[derive(Args)]
pub struct Demo {
    /// Play the whole story unattended, print the results, and fail if anything is wrong
    #[arg(long)]
    check: bool,
    /// Play a season of 90 days in about a minute, with a simulated clock; the service stays up
    /// afterwards
    #[arg(long, conflicts_with = "check")]
    season: bool,
    /// End when the season has ended
    #[arg(long, requires = "season")]
    then_end: bool,
    /// How long a day of the season takes, in milliseconds
    #[arg(long, value_name = "MS", default_value_t = 600, requires = "season")]
    day: u64,
    /// Address to listen on; another port is used if this one is taken
    #[arg(long, default_value = "127.0.0.1:7480")]
    listen: SocketAddr,
    /// Which directory to use
    #[arg(long, value_enum, default_value = "auto")]
    directory: Choice,
    /// Delay of each of berthing's answers, in milliseconds, so that a run can be watched
    #[arg(long, value_name = "MS", default_value_t = 0)]
    slow: u64,
    /// Number of people
    #[arg(long, default_value_t = world::PEOPLE, value_parser = clap::value_parser!(usize))]
    people: usize,
}

/// A directory, real or ours.
pub enum Harbour {
    /// OpenLDAP's.
    Slapd(Box<Slapd>),
    /// Ours.
    Standin(Directory),
}

impl Harbour {
    /// Its address.
    pub fn url(&self) -> &str {
        match self {
            Harbour::Slapd(slapd) => &slapd.url,
            Harbour::Standin(directory) => &directory.url,
        }
    }

    /// The name and password that may write.
    pub fn admin(&self) -> (&str, &str) {
        match self {
            Harbour::Slapd(slapd) => (&slapd.admin_dn, &slapd.admin_password),
            Harbour::Standin(directory) => (&directory.admin_dn, &directory.password),
        }
    }

    /// A description for people.
    pub fn name(&self) -> &'static str {
        match self {
            Harbour::Slapd(_) => "OpenLDAP's slapd",
            Harbour::Standin(_) => "the built-in LDAP stand-in",
        }
    }
}

/// Everything that the demo runs.
pub struct Stage {
    /// The directory.
    pub harbour: Harbour,
    /// The service to feed.
    pub berthing: ScimService,
    /// The training service, poor and slow.
    pub classroom: ScimService,
    /// The personnel office's file.
    pub roster: std::path::PathBuf,
    /// The token with which the mail service calls.
    pub postroom: String,
    /// The made-up people.
    pub people: Vec<world::Crew>,
    /// The service's address.
    pub url: String,
    /// The first operator's token.
    pub token: String,
}

fn secret() -> String {
    hex::encode(rand::random::<[u8; 12]>())
}

async fn harbour(
    choice: Choice,
    people: &[world::Crew],
    password: &str,
) -> anyhow::Result<Harbour> {
    let entries = world::directory(people, password);
    let real = match choice {
        Choice::Slapd => true,
        Choice::Standin => false,
        Choice::Auto => slapd::available(),
    };
    if !real {
        return Ok(Harbour::Standin(
            Directory::start(&entries, password).await?,
        ));
    }
    let slapd = tokio::task::spawn_blocking(move || Slapd::start(&entries))
        .await?
        .context("slapd does not start; `--directory standin` does without it")?;
    Ok(Harbour::Slapd(Box::new(slapd)))
}

/// A system that the demo connects.
struct Connected<'s> {
    name: &'s str,
    kind: SystemKind,
    settings: serde_json::Value,
    secret: Option<&'s str>,
}

async fn connect(engine: &Engine, systems: Vec<Connected<'_>>) -> anyhow::Result<()> {
    let rules = world::rules().into_iter().chain(world::more_rules());
    let files: Vec<RuleFile> = rules
        .map(|(name, text)| RuleFile {
            name: name.into(),
            text: text.into(),
        })
        .collect();
    for system in systems {
        let name = system.name;
        let secret = system.secret.map(str::to_owned);
        let new = NewSystem {
            name: name.into(),
            kind: system.kind,
            settings: system.settings,
            secret,
        };
        engine.administration().add_system(new, "demo").await?;
        anyhow::ensure!(
            engine
                .administration()
                .check_system(name, None)
                .await?
                .is_healthy(),
            "{name} is not well: this is a fault of the demo"
        );
        engine.ingest().read_by_name(name).await?;
    }
    engine
        .administration()
        .publish_rules(&files, "demo")
        .await?;
    for name in ["berthing", "classroom"] {
        let change = SystemUpdate {
            writable: Some(vec![
                tide_core::ObjectType::Person,
                tide_core::ObjectType::Group,
            ]),
            armed: Some(true),
            ..SystemUpdate::default()
        };
        engine
            .administration()
            .set_system(name, change, "demo")
            .await?;
    }
    let armed = SystemUpdate {
        armed: Some(true),
        ..SystemUpdate::default()
    };
    engine
        .administration()
        .set_system("roster", armed, "demo")
        .await?;
    Ok(())
}

fn directory_settings(harbour: &Harbour) -> serde_json::Value {
    let mut settings = serde_json::json!({
        "url": harbour.url(), "bind_dn": format!("cn=eager-tide,ou=services,{BASE}"), "base_dn": BASE, "page_size": 100,
    });
    if let Harbour::Slapd(slapd) = harbour {
        settings["start_tls"] = true.into();
        settings["ca_pem"] = slapd.certificates.ca_pem.clone().into();
    }
    settings
}

impl Demo {
    /// Starts everything, and plays the story if asked.
    pub async fn run(self) -> anyhow::Result<ExitCode> {
        serve::log(serve::LogFormat::Text, "warn");
        let folder = tempfile::Builder::new()
            .prefix("eager-tide-demo-")
            .tempdir()?;
        println!(
            "Skerry Line, a made-up island ferry operator. Everything runs on this machine and is gone when the demo ends.\n"
        );
        println!("  starting the directory `harbour` …");
        let people = world::people(world::SEED, self.people);
        let password = secret();
        let harbour = harbour(self.directory, &people, &password).await?;
        println!("    {} at {}", harbour.name(), harbour.url());
        println!("  starting the crew planning service `berthing` …");
        let berthing = ScimService::start(world::berthing(&people), &secret()).await?;
        println!("    a SCIM 2.0 stand-in at {}", berthing.url);
        berthing.delay(std::time::Duration::from_millis(self.slow));
        println!("  starting the training service `classroom` …");
        let classroom = ScimService::with_manner(Vec::new(), &secret(), Manner::poor()).await?;
        world::TRAINING
            .iter()
            .for_each(|group| drop(classroom.add_group(group, &[])));
        println!(
            "    a poor SCIM 2.0 stand-in at {}: no PATCH, no filters, 10 a page, 40 requests a second, 200 seats",
            classroom.url
        );
        println!("  starting Eager Tide, connecting five systems and publishing the rules …");
        let clock = Arc::new(season::SeaClock::default());
        let (engine, first) =
            serve::open_by(folder.path(), Default::default(), clock.clone()).await?;
        let roster = folder.path().join("feeds/roster/crew.csv");
        std::fs::create_dir_all(roster.parent().context("a folder")?)?;
        std::fs::write(&roster, world::roster(&people))?;
        let feed = serde_json::json!({"path": roster.parent(), "key": "number", "name": "family_name", "max_shrink_percent": 20});
        let systems = connected_systems(&password, &harbour, &berthing, &classroom, feed);
        connect(&engine, systems).await?;
        let postroom = engine
            .ingest()
            .give_token("postroom", "demo", secret(), "demo")
            .await?
            .token;
        engine.start_automatic_sync();
        let listener = match tide_service::listen(self.listen).await {
            Ok(listener) => listener,
            Err(_) => tide_service::listen(SocketAddr::from(([127, 0, 0, 1], 0))).await?,
        };
        let url = format!("http://{}", listener.local_addr()?);
        let token = std::fs::read_to_string(first.context("the demo's store is not new")?)?
            .trim()
            .to_owned();
        let stage = Stage {
            harbour,
            berthing,
            classroom,
            roster,
            postroom,
            people,
            url,
            token,
        };
        let (stop, stopping) = tokio::sync::oneshot::channel::<()>();
        let serving = tokio::spawn(serve_until(listener, engine.clone(), stopping));
        let code = self.code(clock, &engine, stage).await?;
        // Sending fails only if the server has ended; the next line reports why.
        let _ = stop.send(());
        serving.await??;
        engine.store().close().await;
        Ok(code)
    }

    /// Plays the season, and leaves the console open afterwards unless the demo is to end.
    async fn play_season(
        &self,
        stage: &Stage,
        engine: &Arc<Engine>,
        clock: &season::SeaClock,
    ) -> anyhow::Result<ExitCode> {
        let pace = std::time::Duration::from_millis(self.day);
        let code = season::play(stage, engine, clock, pace).await?;
        if !self.then_end {
            println!(
                "\n  console   {}/#token={}\n\nCtrl-C ends the demo.",
                stage.url, stage.token
            );
            serve::stopped().await;
        }
        Ok(code)
    }

    async fn code(
        self,
        clock: Arc<season::SeaClock>,
        engine: &Arc<Engine>,
        stage: Stage,
    ) -> Result<ExitCode, anyhow::Error> {
        Ok(if self.check {
            play::check(&stage).await?
        } else if self.season {
            self.play_season(&stage, engine, &clock).await?
        } else {
            welcome(&stage);
            serve::stopped().await;
            ExitCode::SUCCESS
        })
    }
}

/// The systems that the demo connects.
fn connected_systems<'a>(
    password: &'a str,
    harbour: &Harbour,
    berthing: &'a ScimService,
    classroom: &'a ScimService,
    feed: serde_json::Value,
) -> Vec<Connected<'a>> {
    let systems = vec![
        Connected {
            name: "harbour",
            kind: SystemKind::Ldap,
            settings: directory_settings(harbour),
            secret: Some(password),
        },
        Connected {
            name: "roster",
            kind: SystemKind::Feed,
            settings: feed,
            secret: None,
        },
        Connected {
            name: "postroom",
            kind: SystemKind::Push,
            settings: serde_json::json!({}),
            secret: None,
        },
        Connected {
            name: "berthing",
            kind: SystemKind::Scim,
            settings: serde_json::json!({"url": berthing.url}),
            secret: Some(&berthing.token),
        },
        Connected {
            name: "classroom",
            kind: SystemKind::Scim,
            settings: serde_json::json!({"url": classroom.url, "per_second": 35, "in_flight": 4}),
            secret: Some(&classroom.token),
        },
    ];
    systems
}

async fn serve_until(
    listener: tokio::net::TcpListener,
    engine: Arc<Engine>,
    stopping: tokio::sync::oneshot::Receiver<()>,
) -> anyhow::Result<()> {
    let stop = async {
        let _ = stopping.await;
    };
    Ok(tide_service::serve(listener, engine, None, stop).await?)
}

/// A change made directly in the service.
const TAMPER: &str = r#"{"schemas":["urn:ietf:params:scim:api:messages:2.0:PatchOp"],"Operations":[{"op":"replace","path":"title","value":"Pirate"}]}"#;

/// An account of berthing that belongs to a person.
fn joined(stage: &Stage) -> String {
    let theirs = |user: &serde_json::Value| {
        stage
            .people
            .iter()
            .any(|p| user["userName"] == p.mail.as_str())
    };
    stage
        .berthing
        .users()
        .iter()
        .find(|user| theirs(user))
        .and_then(|user| user["id"].as_str())
        .unwrap_or_default()
        .to_owned()
}

fn welcome(stage: &Stage) {
    let (admin, password) = stage.harbour.admin();
    println!(
        "\nReady. {} people in harbour and roster, {} accounts in berthing, none yet in classroom.\n\n  console   {url}/#token={token}\n\nIn another terminal:\n  export EAGER_TIDE_URL={url}\n  export EAGER_TIDE_TOKEN={token}\n  eager-tide status\n  eager-tide preview\n  eager-tide run\n  eager-tide why {number}\n\nChange the directory and run again:\n  ldapmodify -x -H {ldap} -D {admin} -w {password} <<END\ndn: {dn}\nchangetype: modify\nreplace: title\ntitle: Harbour Master\nEND\n\nEdit the roster (it is read when it no longer changes):\n  $EDITOR {roster}\n\nAdd an address of a person, as the mail service does:\n  curl -H 'authorization: Bearer {postroom}' -H 'content-type: application/scim+json' {url}/scim/v2/postroom/Users -d '{push}'\n\nChange an account directly in berthing (after a run):\n  curl -X PATCH -H 'authorization: Bearer {berth}' -H 'content-type: application/scim+json' {berthing}/Users/{joined} -d '{tamper}'\n\nCtrl-C ends the demo.",
        stage.people.len(),
        stage.berthing.users().len(),
        url = stage.url,
        token = stage.token,
        number = stage.people.first().map_or("1001", |p| p.number.as_str()),
        roster = stage.roster.display(),
        postroom = stage.postroom,
        berth = stage.berthing.token,
        berthing = stage.berthing.url,
        joined = joined(stage),
        tamper = TAMPER,
        push = play::pushed("1003", "anyone@skerry.example"),
        ldap = stage.harbour.url(),
        dn = stage
            .people
            .first()
            .map(world::Crew::dn)
            .unwrap_or_default(),
    );
}
