//! The `vorsel` command: the library's work at the desk.
//!
//! Exit status: 0 fine, 1 the answer is no, 2 the call was wrong.

mod explain;
mod failure;
mod issue;
mod key_file;
mod keys;
mod observatory;
mod paint;
mod password;
mod plan;
mod serve;
mod server;
mod sessions;
mod settings;
mod store_address;
mod tour;

use std::path::PathBuf;
use std::process::ExitCode;

use clap::{CommandFactory, FromArgMatches, Parser, Subcommand};

use crate::failure::Failure;

/// Issue, explain and serve JWT access tokens at the desk.
#[derive(Debug, Parser)]
#[command(name = "vorsel", version, max_term_width = 100)]
struct Arguments {
    /// The settings file of an app, a vorsel.toml: what it says stands behind the options that have a variable of the same name.
    #[arg(long, value_name = "FILE", env = "VORSEL_SETTINGS", global = true)]
    settings: Option<PathBuf>,
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, Subcommand)]
enum Command {
    Tour(tour::TourArguments),
    Serve(serve::ServeArguments),
    Keys(keys::KeysArguments),
    Issue(issue::IssueArguments),
    Explain(explain::ExplainArguments),
    Plan(plan::PlanArguments),
    Sessions(sessions::SessionsArguments),
    Password(password::PasswordArguments),
}

impl Arguments {
    fn read() -> Result<Self, Failure> {
        let arguments: Vec<_> = std::env::args_os().collect();
        let command = match settings::named(&arguments) {
            Some(file) => settings::behind(Self::command(), &file)?,
            None => Self::command(),
        };
        let matches = command.try_get_matches_from(arguments).unwrap_or_else(|error| error.exit());
        Ok(Self::from_arg_matches(&matches).unwrap_or_else(|error| error.exit()))
    }
}

fn main() -> ExitCode {
    let outcome = Arguments::read().and_then(|arguments| match arguments.command {
        Command::Tour(arguments) => tour::run(&arguments),
        Command::Serve(of_serve) => serve::run(&of_serve, arguments.settings.as_deref()),
        Command::Keys(arguments) => keys::run(&arguments),
        Command::Issue(arguments) => issue::run(&arguments),
        Command::Explain(arguments) => explain::run(&arguments),
        Command::Plan(arguments) => plan::run(&arguments),
        Command::Sessions(arguments) => sessions::run(&arguments),
        Command::Password(arguments) => password::run(&arguments),
    });
    match outcome {
        Ok(code) => code,
        Err(failure) => {
            anstream::eprintln!("{failure}");
            ExitCode::from(2)
        }
    }
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    #[test]
    fn the_command_line_is_consistent() {
        super::Arguments::command().debug_assert();
    }
}
