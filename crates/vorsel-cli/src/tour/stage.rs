//! Where the story is told: each step with its request, the answer, and what the server's log says to it.

use vorsel::rule::Rule;
use vorsel::{Access, AccessPlan};

use super::client::Reply;
use super::log::Log;
use crate::paint::{bad, faint, good, heading, printable};

/// Prints the steps and counts those that came out as told.
pub(super) struct Stage {
    log: Log,
    plan: AccessPlan,
    told: u32,
    total: u32,
}

/// A step as it should come out.
pub(super) struct Step<'a> {
    /// What happens, for people.
    pub(super) what: &'a str,
    /// Method and path.
    pub(super) request: (&'a str, &'a str),
    /// The status it should have.
    pub(super) status: u16,
    /// What the log line should begin with, or nothing if there should be none.
    pub(super) refused_by: Option<&'a str>,
}

const WIDTH: usize = 100;
/// Columns for what happens, before the request.
const WHAT: usize = 48;
const INDENT: &str = "      ";
/// Columns of the word before the reason, with the gap behind it.
const LABEL: usize = 9;

impl Stage {
    pub(super) const fn new(log: Log, plan: AccessPlan) -> Self {
        Self { log, plan, told: 0, total: 0 }
    }

    /// How many steps came out as told, and how many there were.
    pub(super) const fn score(&self) -> (u32, u32) {
        (self.told, self.total)
    }

    /// What the log says so far belongs to no step.
    pub(super) fn pass_over(&self) {
        self.log.take();
    }

    pub(super) fn chapter(&self, title: &str) {
        anstream::println!("\n{}", heading(title));
    }

    /// Tells a step of which only the answer counts.
    pub(super) fn tell(&mut self, step: &Step<'_>, reply: &Reply) {
        self.tell_as("let in ", step, reply, Ok(self.reason(step)));
    }

    /// Tells a step with a finding of the story's own: `Ok` says why it went well, `Err` what was wrong with it.
    pub(super) fn tell_with(&mut self, step: &Step<'_>, reply: &Reply, outcome: Result<String, String>) {
        self.tell_as("done   ", step, reply, outcome);
    }

    fn tell_as(&mut self, went_well: &str, step: &Step<'_>, reply: &Reply, outcome: Result<String, String>) {
        let lines = self.log.take();
        let fitting = match step.refused_by {
            None => lines.is_empty(),
            Some(beginning) => lines.iter().any(|line| line.contains(beginning)),
        };
        let as_told = reply.status == step.status && fitting && outcome.is_ok();
        self.total += 1;
        self.told += u32::from(as_told);
        let (method, path) = step.request;
        let status = if reply.status < 400 { good(reply.status) } else { bad(reply.status) };
        anstream::println!("{:>4}  {:<WHAT$}  {method} {path} → {status}", self.total, step.what);
        let (word, said) = if lines.is_empty() {
            (good(went_well), outcome.clone().unwrap_or_default())
        } else {
            (bad("refused"), lines.join(" / "))
        };
        for (index, row) in rows(&printable(&said), WIDTH - INDENT.len() - LABEL).into_iter().enumerate() {
            let label = if index == 0 { word.clone() } else { " ".repeat(LABEL - 2) };
            anstream::println!("{INDENT}{label}  {}", faint(row));
        }
        if !as_told {
            let problem = outcome
                .err()
                .unwrap_or_else(|| format!("expected {} and {}", step.status, step.refused_by.unwrap_or("no refusal")));
            anstream::println!("{INDENT}{}: {problem}", bad("not as told"));
        }
    }

    /// Why a request went through: the plan's own words.
    fn reason(&self, step: &Step<'_>) -> String {
        let path = step.request.1.split('?').next().unwrap_or_default();
        match self.plan.route_of(step.request.0, path).map(vorsel::Route::access) {
            Some(Access::Open) => "the route is open".to_owned(),
            Some(Access::Need(rule @ Rule::Policy(name))) => match self.plan.policy_of(name) {
                Some(meaning) => format!("{rule}: {meaning}"),
                None => rule.to_string(),
            },
            Some(Access::Need(rule)) => rule.to_string(),
            _ => String::new(),
        }
    }
}

/// Text broken at spaces into rows of at most `room` characters.
fn rows(text: &str, room: usize) -> Vec<String> {
    let mut rows = vec![String::new()];
    for word in text.split(' ') {
        let last = rows.len() - 1;
        let row = &mut rows[last];
        if row.is_empty() {
            row.push_str(word);
        } else if row.chars().count() + 1 + word.chars().count() <= room {
            row.push(' ');
            row.push_str(word);
        } else {
            rows.push(word.to_owned());
        }
    }
    rows
}
