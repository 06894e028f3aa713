//! `vorsel plan lint`: every mistake of a plan at once, each with its line.

use std::path::PathBuf;
use std::process::ExitCode;

use clap::Args;
use serde_json::json;
use vorsel::{Access, AccessPlan, Mistake, OpenApiDifferences};

use super::{PlanFile, openapi, text_of};
use crate::failure::Failure;
use crate::paint::{bad, faint, good, heading, printable};

/// Find every mistake of a plan at once, and what can hardly be meant. Exit status: 0 if there is no mistake, 1 if there
/// are some, or an OpenAPI document differs; warnings leave it at 0.
#[derive(Debug, Args)]
pub(super) struct LintArguments {
    #[command(flatten)]
    plan: PlanFile,
    /// An OpenAPI document: say as well which of its operations have no entry, and which entries no operation.
    #[arg(long, value_name = "FILE")]
    openapi: Option<PathBuf>,
    /// Print JSON.
    #[arg(long)]
    json: bool,
}

pub(super) fn run(arguments: &LintArguments) -> Result<ExitCode, Failure> {
    let path = arguments.plan.path()?;
    let (file, text) = (path.display().to_string(), text_of(path)?);
    let outcome = AccessPlan::read(&text, &file);
    let warnings = outcome.as_ref().map(|plan| plan.warnings()).unwrap_or_default();
    let mistakes = outcome.as_ref().err().map(|error| error.mistakes()).unwrap_or_default();
    let differences = match (&outcome, &arguments.openapi) {
        (Ok(plan), Some(document)) => openapi::differences(plan, document)?,
        _ => OpenApiDifferences::default(),
    };
    if arguments.json {
        let records = |list: &[Mistake]| list.iter().map(record).collect::<Vec<_>>();
        let (mistakes, warnings) = (records(mistakes), records(warnings));
        let accepted = outcome.is_ok();
        anstream::println!(
            "{}",
            json!({
                "file": file, "accepted": accepted, "mistakes": mistakes, "warnings": warnings,
                "without_entry": openapi::records(&differences.without_entry),
                "without_operation": openapi::records(&differences.without_operation),
            })
        );
    } else {
        mistakes.iter().for_each(|mistake| anstream::println!("{}", shown(mistake, "", &file, &text)));
        warnings.iter().for_each(|warning| anstream::println!("{}", shown(warning, "warning: ", &file, &text)));
        openapi::lines(&differences).iter().for_each(|line| anstream::println!("{line}"));
        match &outcome {
            Ok(plan) => anstream::println!("{}", fine(plan, &file)),
            Err(_) => anstream::println!("{} in {}", bad(counted(mistakes.len(), "mistake")), printable(&file)),
        }
    }
    let agrees = differences == OpenApiDifferences::default();
    Ok(if outcome.is_ok() && agrees { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

fn record(mistake: &Mistake) -> serde_json::Value {
    let place = mistake.place;
    json!({
        "line": place.map(|place| place.line),
        "column": place.map(|place| place.column),
        "message": mistake.message,
    })
}

/// The mistake, and below it the line with a mark where it begins.
fn shown(mistake: &Mistake, kind: &str, file: &str, text: &str) -> String {
    let message = format!("{kind}{}", printable(&mistake.message));
    let Some(place) = mistake.place else { return format!("{}: {message}\n", printable(file)) };
    let number = place.line.to_string();
    let line = printable(text.lines().nth(place.line - 1).unwrap_or_default());
    let gap = " ".repeat(number.len());
    // The mark stands below the character as it is printed: escapes before it make the line longer.
    let before: String = text.lines().nth(place.line - 1).unwrap_or_default().chars().take(place.column - 1).collect();
    let indent = " ".repeat(printable(&before).chars().count());
    let at = format!("{}:{}:{}", printable(file), place.line, place.column);
    format!(
        "{}: {message}\n{}\n{}\n",
        heading(at),
        faint(format!("  {number} | {line}")),
        format_args!("{}{}", faint(format!("  {gap} | ")), bad(format!("{indent}^")))
    )
}

fn fine(plan: &AccessPlan, file: &str) -> String {
    let open = plan.routes().iter().filter(|route| *route.access() == Access::Open).count();
    let routes = counted(plan.routes().len(), "route");
    let warnings = match plan.warnings().len() {
        0 => String::new(),
        count => format!(", {}", counted(count, "warning")),
    };
    format!("{} {}: {routes}, {open} of them open{warnings}", good("No mistake in"), printable(file))
}

fn counted(count: usize, what: &str) -> String {
    format!("{count} {what}{}", if count == 1 { "" } else { "s" })
}
