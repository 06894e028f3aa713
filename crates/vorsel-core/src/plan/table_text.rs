//! The table of roles and routes as text.

use std::fmt;

use super::table::Access;
use super::who::{AccessRow, AccessTable, Reach};

/// How wide the text is. Only a name that is wider by itself makes it wider.
const WIDTH: usize = 80;
/// The least room for a route; one that takes more has a line of its own.
const LEAST: usize = 20;
const GAP: &str = "  ";

impl AccessTable {
    /// The table as text, 80 columns wide: a line for each route, two where the path is long, and further blocks where there are
    /// many roles; then the conditions by number, then who needs several roles. `paint` gets the words of each cell, padded, and
    /// gives them back with colours or without; heads and routes come without a [`Reach`]. What is open says `open`.
    #[must_use]
    pub fn render(&self, paint: impl Fn(Option<&Reach>, &str) -> String) -> String {
        let mut text = String::new();
        let cells = Cells::of(self);
        for (at, columns) in cells.blocks().into_iter().enumerate() {
            text.push_str(if at == 0 { "" } else { "\n" });
            cells.write(&columns, &paint, &mut text);
        }
        for (at, rule) in self.conditions().iter().enumerate() {
            text.push_str(if at == 0 { "\n" } else { "" });
            let (label, rule) = (format!("if {}", at + 1), rule.to_string());
            for (row, words) in rows(&rule, WIDTH - 7).into_iter().enumerate() {
                text.push_str(&format!("{:>5}  {words}\n", if row == 0 { label.as_str() } else { "" }));
            }
        }
        if !self.is_settled() {
            text.push_str("\n    ?  not settled: finding out takes more work than the plan's budget has\n");
        }
        for row in &self.rows {
            if let Some(witness) = &row.together {
                text.push_str(&format!("\nonly with several roles at once: {witness}\n"));
            }
        }
        text
    }
}

/// The words of every cell, and how wide each column is.
struct Cells<'t> {
    table: &'t AccessTable,
    heads: Vec<String>,
    routes: Vec<String>,
    words: Vec<Vec<String>>,
    widths: Vec<usize>,
}

impl<'t> Cells<'t> {
    fn of(table: &'t AccessTable) -> Self {
        let conditions = table.conditions();
        let cell = |row: &AccessRow, reach: &Reach| match reach {
            Reach::Yes if *row.route.access() == Access::Open => "open".to_owned(),
            Reach::Yes => "yes".to_owned(),
            Reach::No => "-".to_owned(),
            Reach::Unsettled => "?".to_owned(),
            Reach::If(rule) => {
                let at = conditions.iter().position(|known| *known == rule);
                format!("if {}", at.map_or(0, |at| at + 1))
            }
        };
        let method = table.rows.iter().map(|row| row.route.method().len()).max().unwrap_or_default();
        let routes =
            table.rows.iter().map(|row| format!("{:method$} {}", row.route.method(), row.route.path())).collect();
        let heads: Vec<String> = table.columns.iter().map(ToString::to_string).collect();
        let words: Vec<Vec<String>> =
            table.rows.iter().map(|row| row.reach.iter().map(|reach| cell(row, reach)).collect()).collect();
        let width = |column: usize| {
            let cells = words.iter().map(|row: &Vec<String>| row[column].len());
            cells.chain([heads[column].chars().count()]).max().unwrap_or_default()
        };
        let widths = (0..heads.len()).map(width).collect();
        Self { table, heads, routes, words, widths }
    }

    /// Which columns stand beside each other.
    fn blocks(&self) -> Vec<Vec<usize>> {
        let (mut blocks, mut taken): (Vec<Vec<usize>>, _) = (Vec::new(), WIDTH);
        for (column, width) in self.widths.iter().enumerate() {
            let more = GAP.len() + width;
            match blocks.last_mut() {
                Some(block) if taken + more <= WIDTH => {
                    block.push(column);
                    taken += more;
                }
                _ => {
                    blocks.push(vec![column]);
                    taken = LEAST + more;
                }
            }
        }
        blocks
    }

    fn write(&self, columns: &[usize], paint: &impl Fn(Option<&Reach>, &str) -> String, text: &mut String) {
        let taken: usize = columns.iter().map(|column| GAP.len() + self.widths[*column]).sum();
        let longest = self.routes.iter().map(|route| route.chars().count()).max().unwrap_or_default();
        let first = longest.min(WIDTH.saturating_sub(taken).max(LEAST));
        let mut line = |route: &str, cells: Vec<(Option<&Reach>, &String)>| {
            if route.chars().count() > first {
                text.push_str(&paint(None, route));
                text.push_str(&format!("\n{:first$}", ""));
            } else {
                text.push_str(&paint(None, &format!("{route:first$}")));
            }
            let last = cells.len() - 1;
            for ((at, (reach, words)), column) in cells.into_iter().enumerate().zip(columns) {
                let width = if at == last { 0 } else { self.widths[*column] };
                text.push_str(GAP);
                text.push_str(&paint(reach, &format!("{words:width$}")));
            }
            text.push('\n');
        };
        line("route", columns.iter().map(|column| (None, &self.heads[*column])).collect());
        for ((row, route), words) in self.table.rows.iter().zip(&self.routes).zip(&self.words) {
            line(route, columns.iter().map(|column| (Some(&row.reach[*column]), &words[*column])).collect());
        }
    }
}

/// Text broken at spaces into rows of at most `room` characters; a longer word stays whole.
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

impl fmt::Display for AccessTable {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.render(|_, words| words.to_owned()))
    }
}

#[cfg(test)]
mod tests {
    use crate::plan::AccessPlan;

    #[test]
    fn the_text_fits_eighty_columns_and_says_what_is_open() {
        let names: Vec<String> = (0..12).map(|number| format!("role-{number}")).collect();
        let long = "/observers/{observer}/exposures/{exposure}/frames/{frame}/corrections/{correction}";
        let plan = names.iter().fold(AccessPlan::builder(), |plan, name| plan.role(name, &[]));
        let plan = plan
            .open("GET", "/health")
            .need("GET", "/dome", "role role-3 or claims.training >= 3 and claims.shift in [\"dusk\", \"night\"] and scope dome:move and sub != \"obs-0017\"")
            .need("DELETE", long, "signed-in");
        let text = plan.build().expect("a plan").table().to_string();
        for line in text.lines() {
            assert!(line.chars().count() <= 80 || line.contains(long), "{line}\n{text}");
        }
        assert_eq!(text.matches("open").count(), 14, "{text}");
        assert_eq!(text.matches("route ").count(), 2, "two blocks: {text}");
        assert!(names.iter().all(|name| text.contains(name.as_str())), "{text}");
    }
}
