//! `eager-tide`: the service, its client and its demo in one binary.

mod backup;
mod client;
mod demo;
mod play;
mod season;
mod serve;

use clap::{CommandFactory, Parser, Subcommand};
use std::process::ExitCode;

/// Many small values are allocated on one thread and freed on another; the system allocator is slow
/// at that.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Synchronizes directory identities to and from connected systems over LDAP and SCIM.
/// It shows every change with its reason before it is sent, and its result afterwards.
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
    /// Start the demo: a made-up ferry line's directory and services, and Eager Tide between them
    Demo(demo::Demo),
    /// Back up the records of a running service to a file
    Backup(backup::Backup),
    /// Restore a backup; all systems start disarmed
    Restore(backup::Restore),
    /// Show what needs attention, the systems and the last runs
    Status,
    /// Connect, test, read and configure systems
    #[command(subcommand)]
    Systems(client::systems::Systems),
    /// Show and answer the matches between a system's accounts and identities
    Matches(client::matches::Matches),
    /// Show who is in scope, out of scope or on hold for a system, by reason
    Scope(client::scope::ShowScope),
    /// Inspect a feed's file before it is connected
    #[command(subcommand)]
    Feeds(client::feeds::Feeds),
    /// Check, publish, show and export the rules
    #[command(subcommand)]
    Rules(client::rules::Rules),
    /// Show first passwords of new accounts, once; set passwords
    #[command(subcommand)]
    Passwords(client::passwords::Passwords),
    /// Show, sign and test webhooks
    #[command(subcommand)]
    Webhooks(client::webhooks::Webhooks),
    StopWriting(client::stop::StopWriting),
    ResumeWriting(client::stop::ResumeWriting),
    /// Show what a run would do, and why; writes nothing
    Preview(client::changes::Preview),
    /// Read the systems, decide, and send the changes
    Run(client::changes::Run),
    /// Show, export and compare previews and runs
    #[command(subcommand)]
    Changes(client::changes::Changes),
    /// List and answer decisions: approvals, guards, failures, drift
    #[command(subcommand)]
    Decisions(client::decisions::Decisions),
    Holds(client::holds::ShowHolds),
    /// Manage operators, their groups and tokens
    #[command(subcommand)]
    Operators(client::operators::Operators),
    /// Find people, and show their accounts and lifecycle
    #[command(subcommand)]
    Identities(client::identities::Identities),
    /// Show, grant and revoke roles
    #[command(subcommand)]
    Roles(client::roles::Roles),
    /// Show license seats, the waiting list and a forecast
    Licenses(client::licenses::Licenses),
    /// Show notifications that rules sent
    Notifications(client::notifications::Notifications),
    /// Explain the accounts of a person, value by value, or why there is none
    Why(client::identities::Why),
    /// Show and verify the journal
    #[command(subcommand)]
    Journal(client::journal::Journal),
    /// Print the API's OpenAPI document
    Openapi,
    /// Print shell completions
    Completions {
        /// The shell
        shell: clap_complete::Shell,
    },
}

#[tokio::main]
async fn main() -> ExitCode {
    // Installs the TLS provider of the process. An error means that one is installed already.
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
        Command::Matches(matches) => matches.run(&reach).await,
        Command::Scope(view) => view.run(&reach).await,
        Command::Feeds(command) => command.run(&reach).await,
        Command::Rules(command) => command.run(&reach).await,
        Command::Passwords(command) => command.run(&reach).await,
        Command::Webhooks(command) => command.run(&reach).await,
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
        Command::Licenses(command) => command.run(&reach).await,
        Command::Notifications(command) => command.run(&reach).await,
        Command::Why(why) => why.run(&reach).await,
        Command::Journal(command) => command.run(&reach).await,
        Command::Openapi => {
            client::output::line(
                &serde_json::to_string_pretty(&tide_service::openapi()).unwrap_or_default(),
            );
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

#[cfg(test)]
mod tests {
    use super::*;

    /// The help of a command and of those below it, with the command line that shows it.
    fn collect_help(command: &mut clap::Command, line: &str, all: &mut String) {
        all.push_str(&format!(
            "$ {line} --help\n{}\n",
            command.render_long_help()
        ));
        let names: Vec<String> = command
            .get_subcommands()
            .map(|one| one.get_name().to_owned())
            .filter(|name| name != "help")
            .collect();
        for name in names {
            if let Some(below) = command.find_subcommand_mut(&name) {
                // The options of every command stand once, at the top.
                *below = below.clone().mut_args(|arg| {
                    let is_everywhere = arg.is_global_set() || arg.get_id() == "help";
                    arg.hide(is_everywhere)
                });
                collect_help(below, &format!("{line} {name}"), all);
            }
        }
    }

    #[test]
    fn the_help_of_every_command_is_as_it_was_reviewed() {
        let mut all = String::new();
        let mut command = Cli::command().term_width(100).disable_help_subcommand(true);
        command.build();
        collect_help(&mut command, "eager-tide", &mut all);
        insta::assert_snapshot!("help", all);
    }
}
