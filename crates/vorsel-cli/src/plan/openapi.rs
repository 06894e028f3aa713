//! `vorsel plan openapi`: what the plan says, in an OpenAPI document.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::Args;
use serde_json::{Value, json};
use vorsel::{AccessPlan, OpenApiCredentials, OpenApiDifferences};

use super::{PlanFile, text_of};
use crate::failure::Failure;
use crate::paint::{bad, good, printable};

/// Write the plan into an OpenAPI 3.1 document: security schemes, what each operation asks of its caller, its answers 401 and 403.
///
/// Everything else in the document stays as it is. Exit status: 1 if plan and document do not agree on what there is.
#[derive(Debug, Args)]
pub(super) struct OpenApiArguments {
    #[command(flatten)]
    plan: PlanFile,
    /// The document, as JSON.
    #[arg(long, value_name = "FILE")]
    into: PathBuf,
    /// The cookie that an access token is taken from as well.
    #[arg(long, value_name = "NAME", env = "VORSEL_COOKIE")]
    cookie: Option<String>,
    /// The header with an API key.
    #[arg(long, value_name = "NAME")]
    api_key_header: Option<String>,
    /// The query parameter with a ticket.
    #[arg(long, value_name = "NAME")]
    ticket_parameter: Option<String>,
}

pub(super) fn run(arguments: &OpenApiArguments) -> Result<ExitCode, Failure> {
    let plan = arguments.plan.open()?;
    let mut document = read(&arguments.into)?;
    let name = arguments.into.display().to_string();
    let wrong = |error: vorsel::OpenApiError| Failure::from(error).while_doing(name.clone());
    let mut credentials = OpenApiCredentials::default();
    credentials.cookie.clone_from(&arguments.cookie);
    credentials.api_key_header.clone_from(&arguments.api_key_header);
    credentials.ticket_parameter.clone_from(&arguments.ticket_parameter);
    let differences = plan.openapi_differences(&document).map_err(wrong)?;
    plan.write_openapi(&mut document, &credentials).map_err(wrong)?;
    let text = serde_json::to_string_pretty(&document)? + "\n";
    fs::write(&arguments.into, text)
        .map_err(|error| Failure::from(error).while_doing(format!("cannot write {name}")))?;
    lines(&differences).iter().for_each(|line| anstream::println!("{line}"));
    anstream::println!("{} {}", good("Written:"), printable(&name));
    Ok(if differences == OpenApiDifferences::default() { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

fn read(path: &Path) -> Result<Value, Failure> {
    let text = text_of(path)?;
    serde_json::from_str(&text)
        .map_err(|error| Failure::from(error).while_doing(format!("expected JSON in {}", path.display())))
}

/// What plan and document do not agree on, for `vorsel plan lint`.
pub(super) fn differences(plan: &AccessPlan, path: &Path) -> Result<OpenApiDifferences, Failure> {
    let wrong = |error| Failure::from(error).while_doing(path.display().to_string());
    plan.openapi_differences(&read(path)?).map_err(wrong)
}

pub(super) fn records(list: &[(String, String)]) -> Vec<Value> {
    list.iter().map(|(method, path)| json!({ "method": method, "path": path })).collect()
}

pub(super) fn lines(differences: &OpenApiDifferences) -> Vec<String> {
    let line = |(method, path): &(String, String), problem: &str| {
        format!("{} {}: {problem}", bad("differs"), printable(&format!("{method} {path}")))
    };
    let without_entry =
        differences.without_entry.iter().map(|operation| line(operation, "an operation without an entry in the plan"));
    let without_operation =
        differences.without_operation.iter().map(|entry| line(entry, "an entry without an operation"));
    without_entry.chain(without_operation).collect()
}
