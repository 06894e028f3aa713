//! `vorsel plan`: questions about an access plan.

mod ask;
mod lint;

use std::fs;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::{Args, Subcommand};
use vorsel::AccessPlan;

use crate::failure::Failure;

/// Check an access plan, and ask it who may reach what and why.
#[derive(Debug, Args)]
pub(crate) struct PlanArguments {
    #[command(subcommand)]
    action: PlanAction,
}

#[derive(Debug, Subcommand)]
enum PlanAction {
    Lint(lint::LintArguments),
    Ask(ask::AskArguments),
}

pub(crate) fn run(arguments: &PlanArguments) -> Result<ExitCode, Failure> {
    match &arguments.action {
        PlanAction::Lint(arguments) => lint::run(arguments),
        PlanAction::Ask(arguments) => ask::run(arguments),
    }
}

#[derive(Debug, Args)]
struct PlanFile {
    /// The plan, an access.toml.
    #[arg(long = "plan", value_name = "FILE", env = "VORSEL_PLAN")]
    file: PathBuf,
}

impl PlanFile {
    fn open(&self) -> Result<AccessPlan, Failure> {
        Ok(AccessPlan::read(&text_of(&self.file)?, &self.file.display().to_string())?)
    }
}

fn text_of(path: &Path) -> Result<String, Failure> {
    fs::read_to_string(path)
        .map_err(|error| Failure::from(error).while_doing(format!("cannot read {}", path.display())))
}
