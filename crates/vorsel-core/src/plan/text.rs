//! Reading a plan from TOML.
//!
//! Every statement stands on one line, so that a line that goes missing takes a whole statement with it: a rule or a
//! role over several lines, and routes in an inline array, are mistakes. A lost line then either breaks the file or
//! closes something; it cannot open a route.

use std::ops::Range;

use toml_edit::{ArrayOfTables, Document, Item, Key, Table, TableLike, Value};

use super::draft::{DraftRoute, DraftRule, PlanBuilder, Spanned, fallback_entries};
use super::mistake::{PlanError, Span};
use super::table::AccessPlan;
use crate::rule::Rule;
use crate::spelling::did_you_mean;

impl AccessPlan {
    /// Reads a plan from the text of an `access.toml`; `file` is the name that mistakes are reported under.
    ///
    /// # Errors
    /// Every mistake in the text at once, each with line and column.
    pub fn read(text: &str, file: &str) -> Result<Self, PlanError> {
        Self::builder().read(text, file).build()
    }
}

impl PlanBuilder {
    /// Adds what the text of an `access.toml` says; `file` is the name that mistakes are reported under. A plan may be read
    /// from several texts.
    pub fn read(mut self, text: &str, file: &str) -> Self {
        let (start, mut read) = (self.sources.end(), Self::default());
        self.sources.add(file, text);
        match Document::parse(text) {
            Err(error) => {
                let message = error.message().lines().collect::<Vec<_>>().join(", ");
                read.mistakes.push((error.span().or(Some(0..0)), message));
            }
            Ok(document) => Reader { text, builder: &mut read }.plan(document.as_table()),
        }
        self.append(read, start);
        self
    }
}

struct Reader<'a> {
    text: &'a str,
    builder: &'a mut PlanBuilder,
}

impl Reader<'_> {
    fn mistake(&mut self, span: Span, message: impl Into<String>) {
        self.builder.mistakes.push((span, message.into()));
    }

    fn plan(&mut self, table: &Table) {
        const MEMBERS: [&str; 6] = ["scopes", "predicates", "subjects", "roles", "policies", "routes"];
        for (name, key, item) in members(table) {
            match (name, item) {
                ("scopes", Item::Value(value)) => self.builder.scopes = self.names(value),
                ("predicates", Item::Value(value)) => self.builder.predicates = self.names(value),
                ("subjects", Item::Value(Value::String(word))) if word.value() == "all" => {
                    self.builder.all_subjects = true;
                }
                ("subjects", Item::Value(Value::String(word))) if word.value() == "own" => {}
                ("roles", item) if item.is_table_like() => self.roles(item),
                ("policies", item) if item.is_table_like() => self.policies(item),
                ("routes", Item::ArrayOfTables(routes)) => self.routes(routes),
                ("scopes", _) => self.mistake(key, "expected a list of scopes: scopes = [\"dome:move\"]"),
                ("predicates", _) => {
                    self.mistake(key, "expected a list of predicates: predicates = [\"owns-exposure\"]");
                }
                ("subjects", _) => {
                    self.mistake(key, "expected whose sub counts in rules: subjects = \"own\", or \"all\"");
                }
                ("roles" | "policies", _) => self.mistake(key, format!("expected a table: [{name}]")),
                ("routes", _) => self.mistake(key, "expected each route under a [[routes]] line of its own"),
                (other, _) => {
                    let advice = did_you_mean(other, MEMBERS.into_iter());
                    let known = "scopes, predicates, subjects, [roles], [policies] and [[routes]]";
                    self.mistake(key, format!("unknown member {other:?}{advice}; a plan has {known}"));
                }
            }
        }
    }

    fn roles(&mut self, item: &Item) {
        for (name, key, item) in item.as_table_like().into_iter().flat_map(members_like) {
            let Some(value) = item.as_value().filter(|value| value.is_array()) else {
                self.mistake(key, format!("expected a list of the roles that {name:?} includes: {name} = []"));
                continue;
            };
            if self.is_on_several_lines(value) {
                self.mistake(value.span(), format!("expected the roles that {name:?} includes in one line"));
            }
            let includes = self.names(value);
            self.builder.roles.push((Spanned { name: name.to_owned(), span: key }, includes));
        }
    }

    fn policies(&mut self, item: &Item) {
        for (name, key, item) in item.as_table_like().into_iter().flat_map(members_like) {
            if let Some(rule) = self.rule(name, &key, item) {
                self.builder.policies.push((Spanned { name: name.to_owned(), span: key }, rule));
            } else {
                self.builder.unread_policies.push(name.to_owned());
            }
        }
    }

    fn routes(&mut self, routes: &ArrayOfTables) {
        for route in routes {
            self.route(route);
        }
    }

    fn route(&mut self, table: &Table) {
        const MEMBERS: [&str; 5] = ["method", "path", "fallback", "open", "need"];
        let here = table.span();
        for (name, key, _) in members(table).filter(|(name, ..)| !MEMBERS.contains(name)) {
            let advice = did_you_mean(name, MEMBERS.into_iter());
            self.mistake(key, format!("unknown member {name:?} of a route{advice}"));
        }
        for member in ["method", "path"] {
            if let Some(value @ Value::String(_)) = table.get(member).and_then(Item::as_value)
                && self.is_on_several_lines(value)
            {
                self.mistake(value.span(), format!("expected the {member} in one line"));
            }
        }
        let methods = match table.get("method").and_then(Item::as_value) {
            Some(value @ Value::String(_)) => vec![Spanned { name: text_of(value), span: value.span() }],
            Some(value @ Value::Array(_)) => self.names(value),
            _ => Vec::new(),
        };
        if methods.is_empty() {
            self.mistake(here.clone(), "expected a method: method = \"GET\"");
        }
        let is_fallback = match table.get("fallback") {
            Some(item) if item.as_bool() == Some(true) => true,
            Some(item) => {
                self.mistake(item.span(), "expected fallback = true, for what a router's fallback gets");
                return;
            }
            None => false,
        };
        let path = match table.get("path").and_then(Item::as_value) {
            Some(value @ Value::String(_)) => Some(Spanned { name: text_of(value), span: value.span() }),
            None if is_fallback => Some(Spanned { name: "/".to_owned(), span: here.clone() }),
            _ => {
                self.mistake(here.clone(), "expected a path: path = \"/dome\"");
                None
            }
        };
        let access = self.access(table, &here);
        if let (Some(path), Some(need)) = (path, access) {
            for method in methods {
                if is_fallback {
                    self.builder.routes.extend(fallback_entries(&method, &path, need.as_ref()));
                } else {
                    let (path, need) = (path.clone(), need.clone());
                    self.builder.routes.push(DraftRoute { method, path, need, is_fallback: false });
                }
            }
        }
    }

    /// `open = true` or `need = "…"`, one of them and not both.
    fn access(&mut self, table: &Table, here: &Span) -> Option<Option<DraftRule>> {
        match (table.get("open"), table.get("need")) {
            (Some(open), None) if open.as_bool() == Some(true) => Some(None),
            (Some(open), None) => {
                self.mistake(open.span(), "expected open = true, or a rule: need = \"role observer\"");
                None
            }
            (None, Some(need)) => self.rule("need", here, need).map(Some),
            (Some(_), Some(need)) => {
                self.mistake(need.span(), "a route is open or has a need, not both");
                None
            }
            (None, None) => {
                self.mistake(here.clone(), "expected need = \"…\" with a rule, or the word open = true");
                None
            }
        }
    }

    fn rule(&mut self, name: &str, key: &Span, item: &Item) -> Option<DraftRule> {
        let Some(value @ Value::String(_)) = item.as_value() else {
            self.mistake(
                item.span().or(key.clone()),
                format!("expected a rule as a string: {name} = \"role observer\""),
            );
            return None;
        };
        if self.is_on_several_lines(value) {
            self.mistake(value.span(), "expected a rule in one line");
            return None;
        }
        let text = text_of(value);
        match Rule::parse(&text) {
            Ok(rule) => Some(DraftRule { rule, span: value.span() }),
            Err(error) => {
                let span = value.span().map(|whole| self.within(whole, &text, error.span.start));
                self.mistake(span, error.to_string());
                None
            }
        }
    }

    /// The place in the file of byte `at` of a string's text, or the string itself if it was written with escapes.
    fn within(&self, whole: Range<usize>, text: &str, at: usize) -> Range<usize> {
        match self.text.get(whole.clone()).and_then(|raw| raw.find(text)) {
            Some(quote) => whole.start + quote + at..whole.end,
            None => whole,
        }
    }

    fn names(&mut self, value: &Value) -> Vec<Spanned> {
        let Some(array) = value.as_array() else {
            self.mistake(value.span(), "expected a list of names");
            return Vec::new();
        };
        let mut names = Vec::new();
        for item in array {
            match item {
                Value::String(_) => names.push(Spanned { name: text_of(item), span: item.span() }),
                other => self.mistake(other.span(), "expected a name as a string"),
            }
        }
        names
    }

    fn is_on_several_lines(&self, value: &Value) -> bool {
        value.span().and_then(|span| self.text.get(span)).is_none_or(|raw| raw.contains('\n'))
    }
}

fn members(table: &Table) -> impl Iterator<Item = (&str, Span, &Item)> {
    members_like(table)
}

fn members_like(table: &dyn TableLike) -> impl Iterator<Item = (&str, Span, &Item)> {
    table.iter().map(|(name, item)| (name, table.key(name).and_then(Key::span), item))
}

fn text_of(value: &Value) -> String {
    value.as_str().unwrap_or_default().to_owned()
}
