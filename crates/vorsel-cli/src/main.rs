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
mod plan;
mod serve;
mod sessions;
mod store_address;
mod tour;

use std::process::ExitCode;

use clap::{Parser, Subcommand};

/// Issue, explain and serve JWT access tokens at the desk.
#[derive(Debug, Parser)]
#[command(name = "vorsel", version, max_term_width = 100)]
struct Arguments {
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
}

fn main() -> ExitCode {
    let outcome = match Arguments::parse().command {
        Command::Tour(arguments) => tour::run(&arguments),
        Command::Serve(arguments) => serve::run(&arguments),
        Command::Keys(arguments) => keys::run(&arguments),
        Command::Issue(arguments) => issue::run(&arguments),
        Command::Explain(arguments) => explain::run(&arguments),
        Command::Plan(arguments) => plan::run(&arguments),
        Command::Sessions(arguments) => sessions::run(&arguments),
    };
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
