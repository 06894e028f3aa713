//! The table as one page: no script, no other file, light or dark as the reader has it.

use vorsel::rule::Rule;
use vorsel::{Access, AccessPlan, AccessTable, Reach};

const STYLE: &str = "
:root { color-scheme: light dark; --ink: light-dark(#22262b, #e4e2dc); --soft: light-dark(#6a7078, #9a9a94);
  --paper: light-dark(#fbfaf6, #16181b); --line: light-dark(#dcd8cc, #34373c); --band: light-dark(#f1eee5, #1f2226);
  --yes: light-dark(#1c6b34, #7fd29a); --yes-band: light-dark(#e2f1e4, #1b3324);
  --if: light-dark(#7a4c00, #e8c27a); --if-band: light-dark(#f8ecd2, #3a2e17); --open: light-dark(#8e2b23, #f0a49c); }
body { margin: 2rem auto; max-width: 76rem; padding: 0 1.5rem; background: var(--paper); color: var(--ink);
  font: 15px/1.45 system-ui, sans-serif; }
h1 { font-size: 1.5rem; margin: 0 0 .25rem; } h2 { font-size: 1.05rem; margin: 2rem 0 .5rem; }
p { margin: .25rem 0; color: var(--soft); }
table { border-collapse: collapse; width: 100%; margin-top: 1rem; }
th, td { padding: .3rem .6rem; border-bottom: 1px solid var(--line); text-align: center; white-space: nowrap; }
thead th { position: sticky; top: 0; background: var(--band); font-weight: 600; }
th.route, td.route { text-align: left; font-family: ui-monospace, monospace; font-size: .9rem; font-weight: 400; }
td.method { color: var(--soft); text-align: left; font-family: ui-monospace, monospace; font-size: .8rem; }
td.yes { background: var(--yes-band); color: var(--yes); } td.no { color: var(--line); }
td.if { background: var(--if-band); color: var(--if); } td.if a { color: inherit; text-decoration: none; }
tr.open td.yes { color: var(--open); background: none; font-weight: 600; }
dl { display: grid; grid-template-columns: max-content 1fr; gap: .2rem 1rem; margin: 0; }
dt { font-weight: 600; } dd { margin: 0; } code { font: .9rem ui-monospace, monospace; overflow-wrap: anywhere; }
dt:target, dt:target + dd { background: var(--if-band); }
@media print { body { margin: 0; max-width: none; } tr { break-inside: avoid; } thead th { position: static; } }
";

/// The whole page. `name` is the plan's file.
pub(super) fn page(plan: &AccessPlan, table: &AccessTable, name: &str) -> String {
    let name = escaped(name);
    let open = plan.routes().iter().filter(|route| *route.access() == Access::Open).count();
    let heads: String = table.columns.iter().map(|who| format!("<th>{}</th>", escaped(&who.to_string()))).collect();
    let conditions = table.conditions();
    let rows: String = table
        .rows
        .iter()
        .map(|row| {
            let route = &row.route;
            let cells: String = row.reach.iter().map(|reach| cell(reach, &conditions)).collect();
            let class = if *route.access() == Access::Open { " class=\"open\"" } else { "" };
            let (method, path) = (escaped(route.method()), escaped(route.path()));
            format!("<tr{class}><td class=\"method\">{method}</td><td class=\"route\">{path}</td>{cells}</tr>\n")
        })
        .collect();
    let together: String = table
        .rows
        .iter()
        .filter_map(|row| row.together.as_ref())
        .map(|witness| {
            format!("<p>Only with several roles at once: <code>{}</code></p>\n", escaped(&witness.to_string()))
        })
        .collect();
    format!(
        "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<meta name=\"viewport\" \
         content=\"width=device-width\">\n<title>Who may reach what: {name}</title>\n<style>{STYLE}</style>\n</head>\n<body>\n\
         <h1>Who may reach what</h1>\n<p>{name}: {} routes, {open} of them open. What is open is red; what is not listed is refused.</p>\n\
         <table>\n<thead><tr><th class=\"route\" colspan=\"2\">route</th>{heads}</tr></thead>\n<tbody>\n{rows}</tbody>\n\
         </table>\n{together}{}{}{}</body>\n</html>\n",
        plan.routes().len(),
        listed(
            "Conditions",
            conditions.iter().enumerate().map(|(at, rule)| {
                let number = at + 1;
                (format!("<dt id=\"c{number}\">if {number}</dt>"), rule.to_string())
            })
        ),
        listed(
            "Roles",
            plan.roles().filter(|(_, included)| !included.is_empty()).map(|(role, included)| {
                (format!("<dt>{}</dt>", escaped(role)), format!("includes {}", included.join(", ")))
            })
        ),
        listed(
            "Policies",
            plan.policies().map(|(policy, rule)| { (format!("<dt>{}</dt>", escaped(policy)), rule.to_string()) })
        ),
    )
}

fn cell(reach: &Reach, conditions: &[&Rule]) -> String {
    match reach {
        Reach::Yes => "<td class=\"yes\">yes</td>".to_owned(),
        Reach::If(rule) => {
            let number = conditions.iter().position(|known| *known == rule).map_or(0, |at| at + 1);
            let words = escaped(&rule.to_string());
            format!("<td class=\"if\" title=\"{words}\"><a href=\"#c{number}\">if {number}</a></td>")
        }
        Reach::No => "<td class=\"no\">–</td>".to_owned(),
        _ => "<td title=\"not settled: finding out takes more work than the plan's budget has\">?</td>".to_owned(),
    }
}

/// A heading and a list of terms, nothing if there is none.
fn listed(heading: &str, entries: impl Iterator<Item = (String, String)>) -> String {
    let entries: String =
        entries.map(|(term, words)| format!("{term}<dd><code>{}</code></dd>\n", escaped(&words))).collect();
    if entries.is_empty() { entries } else { format!("<h2>{heading}</h2>\n<dl>\n{entries}</dl>\n") }
}

fn escaped(text: &str) -> String {
    let mut safe = String::with_capacity(text.len());
    for character in text.chars() {
        match character {
            '&' => safe.push_str("&amp;"),
            '<' => safe.push_str("&lt;"),
            '>' => safe.push_str("&gt;"),
            '"' => safe.push_str("&quot;"),
            '\'' => safe.push_str("&#39;"),
            other => safe.push(other),
        }
    }
    safe
}
