//! `vorsel plan table`: who may reach which route.

use std::fs;
use std::path::PathBuf;
use std::process::ExitCode;

use clap::Args;
use serde_json::{Value, json};
use vorsel::{Access, AccessRow, AccessTable, Reach};

use super::{PlanFile, page, witness_record};
use crate::failure::Failure;
use crate::paint::{bad, faint, good, heading, printable};

/// Show who may reach which route: a row for each route, a column for each role. Exit status: 1 if a cell is not settled.
#[derive(Debug, Args)]
pub(super) struct TableArguments {
    #[command(flatten)]
    plan: PlanFile,
    /// Print JSON.
    #[arg(long)]
    json: bool,
    /// Write the table as one page that needs no other file.
    #[arg(long, value_name = "FILE", conflicts_with = "json")]
    html: Option<PathBuf>,
}

pub(super) fn run(arguments: &TableArguments) -> Result<ExitCode, Failure> {
    let plan = arguments.plan.open()?;
    let table = plan.table();
    if let Some(path) = &arguments.html {
        fs::write(path, page::page(&plan, &table, &arguments.plan.path()?.display().to_string()))
            .map_err(|error| Failure::from(error).while_doing(format!("cannot write {}", path.display())))?;
        anstream::println!("{} {}", good("Written:"), printable(&path.display().to_string()));
    } else if arguments.json {
        anstream::println!("{}", serde_json::to_string_pretty(&record(&table))?);
    } else {
        anstream::print!("{}", table.render(painted));
    }
    Ok(if table.is_settled() { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

fn painted(reach: Option<&Reach>, words: &str) -> String {
    let words = printable(words);
    match reach {
        None => heading(words),
        Some(Reach::Yes) if words.trim_end() == "open" => bad(words),
        Some(Reach::Yes) => good(words),
        Some(Reach::No) => faint(words),
        Some(_) => words,
    }
}

fn record(table: &AccessTable) -> Value {
    let columns: Vec<_> = table.columns.iter().map(ToString::to_string).collect();
    let rows: Vec<_> = table.rows.iter().map(|row| row_record(&columns, row)).collect();
    json!({ "columns": columns, "routes": rows })
}

/// One route: for each column `true`, `false`, the condition as a rule, or `null` for what is not settled.
pub(super) fn row_record(columns: &[String], row: &AccessRow) -> Value {
    let reach = columns.iter().zip(&row.reach).map(|(column, reach)| {
        let reach = match reach {
            Reach::Yes => json!(true),
            Reach::If(rule) => json!(rule.to_string()),
            Reach::No => json!(false),
            _ => Value::Null,
        };
        (column.clone(), reach)
    });
    json!({
        "method": row.route.method(),
        "path": row.route.path(),
        "open": *row.route.access() == Access::Open,
        "reach": reach.collect::<serde_json::Map<_, _>>(),
        "only_with_several_roles": row.together.as_ref().map(witness_record),
    })
}
