//! `eager-tide`: the service, its client and its demo in one binary.

mod backup;
mod client;
mod demo;
mod play;
mod season;
mod serve;

use clap::{CommandFactory, Parser, Subcommand};
use std::process::ExitCode;

/// Many small values are made on one thread and dropped on another, which the system's own allocator is slow at.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Synchronizes directory identities to and from connected systems over LDAP and SCIM. It says
/// before what it will do and why, and afterwards what it did and why not.
#[derive(Parser)]
#[command(
    name = "eager-tide",
    version,
    about,
    max_term_width = 100,
    after_help = "Exit codes: 0 done · 1 failed · 2 usage · 3 held for a decision\n\nSee it work: `eager-tide demo`. Start for good: `eager-tide serve --data DIR`."
)]
struct Cli {
    #[command(subcommand)]
    command: Command,
    #[command(flatten)]
    reach: client::Reach,
}

#[derive(Subcommand)]
enum Command {
    /// Start the service
    Serve(serve::Serve),
    /// Start a made-up ferry line's directory, a service to feed, and Eager Tide between them
    Demo(demo::Demo),
    /// Copy a service's records to a file, while it runs
    Backup(backup::Backup),
    /// Put a backup in the place of a service's records; it starts disarmed
    Restore(backup::Restore),
    /// Is everything well, and what waits?
    Status,
    /// Connect, test, read and set systems
    #[command(subcommand)]
    Systems(client::systems::Systems),
    /// How the accounts of a system and the identities find each other, and what you say about it
    Match(client::matches::Match),
    /// Who takes part with a system, who does not and who waits, by reason
    Scope(client::scope::ScopeView),
    /// Look at a feed's file before it is used
    #[command(subcommand)]
    Feeds(client::feeds::Feeds),
    /// Check, publish, show and export the rules
    #[command(subcommand)]
    Rules(client::rules::Rules),
    /// First passwords of new accounts: shown once
    #[command(subcommand)]
    Passwords(client::passwords::Passwords),
    /// Who is called by the rules: what they are told, and whether it arrives
    #[command(subcommand)]
    Calls(client::webhooks::Calls),
    StopWriting(client::stop::StopWriting),
    ResumeWriting(client::stop::ResumeWriting),
    /// Show what a run would do, and why; nothing is written
    Preview(client::changes::Preview),
    /// Read, decide and carry out
    Run(client::changes::Run),
    /// Look into previews and runs
    #[command(subcommand)]
    Changes(client::changes::Changes),
    /// What waits for a person, and your answers
    #[command(subcommand)]
    Decisions(client::decisions::Decisions),
    Holds(client::holds::ShowHolds),
    /// Who may act: operators, their groups, and who they are
    #[command(subcommand)]
    Operators(client::operators::Operators),
    /// Find people and look at their accounts
    #[command(subcommand)]
    Identities(client::identities::Identities),
    /// Roles: who holds them, and where they differ
    #[command(subcommand)]
    Roles(client::roles::Roles),
    /// Licences: seats in use, who waits for one, and what the next weeks bring
    Licences(client::granted::Licences),
    /// What rules told to whom: managers, owners of groups, newcomers
    Told(client::granted::ToldTo),
    /// Why is a person's account as it is, value by value, or why is there none?
    Why(client::identities::Why),
    /// What was done, by whom
    #[command(subcommand)]
    Journal(client::journal::Journal),
    /// Print the API's OpenAPI document
    Openapi,
    /// Print completions for a shell
    Completions {
        /// The shell
        shell: clap_complete::Shell,
    },
}

#[tokio::main]
async fn main() -> ExitCode {
    // One TLS provider for the whole process; a second call would say that there is one already.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let cli = Cli::parse();
    let reach = cli.reach;
    let result = match cli.command {
        Command::Serve(serve) => serve.run().await,
        Command::Demo(demo) => demo.run().await,
        Command::Backup(backup) => backup.run().await,
        Command::Restore(restore) => restore.run().await,
        Command::Status => client::status::show(&reach).await,
        Command::Systems(command) => command.run(&reach).await,
        Command::Match(report) => report.run(&reach).await,
        Command::Scope(view) => view.run(&reach).await,
        Command::Feeds(command) => command.run(&reach).await,
        Command::Rules(command) => command.run(&reach).await,
        Command::Passwords(command) => command.run(&reach).await,
        Command::Calls(command) => command.run(&reach).await,
        Command::StopWriting(stop) => stop.run(&reach).await,
        Command::ResumeWriting(resume) => resume.run(&reach).await,
        Command::Preview(preview) => preview.run(&reach).await,
        Command::Run(run) => run.run(&reach).await,
        Command::Changes(command) => command.run(&reach).await,
        Command::Decisions(command) => command.run(&reach).await,
        Command::Holds(holds) => holds.run(&reach).await,
        Command::Operators(command) => command.run(&reach).await,
        Command::Identities(command) => command.run(&reach).await,
        Command::Roles(command) => command.run(&reach).await,
        Command::Licences(command) => command.run(&reach).await,
        Command::Told(command) => command.run(&reach).await,
        Command::Why(why) => why.run(&reach).await,
        Command::Journal(command) => command.run(&reach).await,
        Command::Openapi => {
            client::output::line(&serde_json::to_string_pretty(&tide_service::openapi()).unwrap_or_default());
            Ok(ExitCode::SUCCESS)
        }
        Command::Completions { shell } => {
            let mut script = Vec::new();
            clap_complete::generate(shell, &mut Cli::command(), "eager-tide", &mut script);
            // A reader that went away (`| head`) is no error.
            let _ = std::io::Write::write_all(&mut std::io::stdout(), &script);
            Ok(ExitCode::SUCCESS)
        }
    };
    result.unwrap_or_else(|error| {
        eprintln!("{}", client::output::clean(&format!("error: {error:#}")));
        ExitCode::from(1)
    })
}
