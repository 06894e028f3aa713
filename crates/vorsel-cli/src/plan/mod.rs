//! `vorsel plan`: questions about an access plan.

mod ask;
mod compare;
mod lint;
mod openapi;
mod page;
mod table;

use std::fs;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::{Args, Subcommand};
use serde_json::{Value, json};
use vorsel::{AccessPlan, Credential, Witness};

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
    Table(table::TableArguments),
    Ask(Box<ask::AskArguments>),
    Compare(compare::CompareArguments),
    Openapi(openapi::OpenApiArguments),
}

pub(crate) fn run(arguments: &PlanArguments) -> Result<ExitCode, Failure> {
    match &arguments.action {
        PlanAction::Lint(arguments) => lint::run(arguments),
        PlanAction::Table(arguments) => table::run(arguments),
        PlanAction::Ask(arguments) => ask::run(arguments),
        PlanAction::Compare(arguments) => compare::run(arguments),
        PlanAction::Openapi(arguments) => openapi::run(arguments),
    }
}

/// The plan of a command: its first argument, an option, the environment or the settings.
#[derive(Debug, Args)]
struct PlanFile {
    /// The plan, an access.toml.
    #[arg(value_name = "FILE")]
    file: Option<PathBuf>,
    /// The same as an option.
    #[arg(long, value_name = "FILE", env = "VORSEL_PLAN")]
    plan: Option<PathBuf>,
}

impl PlanFile {
    fn path(&self) -> Result<&Path, Failure> {
        let path = self.file.as_deref().or(self.plan.as_deref());
        path.ok_or_else(|| {
            Failure::new("which plan? expected an access.toml as the first argument, --plan FILE, or VORSEL_PLAN")
        })
    }

    fn open(&self) -> Result<AccessPlan, Failure> {
        read_plan(self.path()?)
    }
}

fn read_plan(path: &Path) -> Result<AccessPlan, Failure> {
    Ok(AccessPlan::read(&text_of(path)?, &path.display().to_string())?)
}

/// An example caller and request, for JSON.
fn witness_record(witness: &Witness) -> Value {
    json!({
        "method": witness.method(),
        "path": witness.path(),
        "claims": witness.claims(),
        "signed_in_ago": witness.signed_in_ago().map(|ago| ago.as_secs()),
        "credentials": witness.credentials().iter().map(Credential::name).collect::<Vec<_>>(),
        "predicates": witness.answers().map(|(name, yes)| (name.to_owned(), yes.into())).collect::<serde_json::Map<_, _>>(),
    })
}

fn text_of(path: &Path) -> Result<String, Failure> {
    fs::read_to_string(path)
        .map_err(|error| Failure::from(error).while_doing(format!("cannot read {}", path.display())))
}
