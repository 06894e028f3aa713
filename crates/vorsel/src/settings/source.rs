//! Reading settings from a file's text and from the environment, each with where it stands.

use std::collections::BTreeMap;
use std::ffi::OsString;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::time::Duration;

use toml_edit::{Document, Item, TableLike, Value};
use vorsel_core::{did_you_mean, read_duration, with_causes};
use zeroize::Zeroizing;

use super::table::{Kind, SETTINGS, Setting};

/// A value as it was found.
#[derive(Clone)]
pub(super) enum Found {
    Text(String),
    Texts(Vec<String>),
    Path(PathBuf),
    Secret(Zeroizing<String>),
    Span(Duration),
    Count(u64),
}

/// What was found so far, and what was wrong.
#[derive(Default)]
pub(super) struct Source {
    pub(super) found: BTreeMap<&'static str, (Found, String)>,
    pub(super) problems: Vec<String>,
    pub(super) warnings: Vec<String>,
    /// The variables that would say the same.
    pub(super) variables: Vec<(String, OsString)>,
}

/// Variables that have another use.
const OTHERS: [&str; 2] = ["VORSEL_LOG", "VORSEL_SETTINGS"];

impl Source {
    /// Reads a file's text. Paths in it are reckoned from its folder.
    pub(super) fn file(&mut self, text: &str, file: &Path) {
        let (name, folder) = (file.display().to_string(), file.parent().unwrap_or(Path::new("")));
        let at = |span: Option<Range<usize>>| {
            let (line, column) = place(text, span.map_or(0, |span| span.start));
            format!("{name}:{line}:{column}")
        };
        match Document::parse(text) {
            Ok(document) => self.table("", document.as_table(), folder, &at),
            Err(error) => {
                let message = error.message().lines().collect::<Vec<_>>().join(", ");
                self.problems.push(format!("{}: {message}", at(error.span())));
            }
        }
    }

    fn table(
        &mut self,
        prefix: &str,
        table: &dyn TableLike,
        folder: &Path,
        at: &impl Fn(Option<Range<usize>>) -> String,
    ) {
        for (key, item) in table.iter() {
            let name = format!("{prefix}{key}");
            let here = at(table.key(key).and_then(toml_edit::Key::span).or(item.span()));
            let is_table =
                prefix.is_empty() && SETTINGS.iter().any(|known| known.name.starts_with(&format!("{name}.")));
            match (is_table, item.as_table_like(), item) {
                (true, Some(inner), _) => self.table(&format!("{name}."), inner, folder, at),
                (true, None, _) => self.problems.push(format!("{here}: expected a table: [{name}]")),
                (false, _, Item::Value(value)) => self.member(&name, value, folder, here),
                _ => self.unknown(&name, &here),
            }
        }
    }

    fn member(&mut self, name: &str, value: &Value, folder: &Path, here: String) {
        if let Some(setting) = SETTINGS.iter().find(|setting| setting.name == name) {
            match read(setting, value, folder) {
                Ok(found) => self.take(setting, found, here),
                Err(problem) => self.problems.push(format!("{here}: {name}: {problem}")),
            }
        } else if let Some(setting) = in_file(name) {
            match value.as_str() {
                Some(path) => self.secret_file(setting, &folder.join(path), here),
                None => self.problems.push(format!("{here}: {name}: expected the name of a file")),
            }
        } else {
            self.unknown(name, &here);
        }
    }

    fn unknown(&mut self, name: &str, here: &str) {
        let advice = did_you_mean(name, SETTINGS.iter().map(|setting| setting.name));
        self.problems.push(format!("{here}: unknown setting {name:?}{advice}"));
    }

    /// Reads the environment over it.
    pub(super) fn environment(&mut self, variables: impl IntoIterator<Item = (String, String)>) {
        for (variable, text) in variables {
            if !variable.starts_with("VORSEL_") || OTHERS.contains(&&*variable) {
                continue;
            }
            if let Some(setting) = SETTINGS.iter().find(|setting| setting.variable() == variable) {
                match written(setting, &text) {
                    Ok(found) => self.take(setting, found, variable),
                    Err(problem) => self.problems.push(format!("{variable}: {problem}")),
                }
            } else if let Some(setting) = SETTINGS.iter().find(|setting| {
                matches!(setting.kind, Kind::Secret) && variable == format!("{}_FILE", setting.variable())
            }) {
                self.secret_file(setting, Path::new(&text), variable);
            } else {
                let names: Vec<_> = SETTINGS.iter().map(Setting::variable).collect();
                let advice = did_you_mean(&variable, names.iter().map(String::as_str));
                self.warnings.push(format!("the variable {variable} is no setting{advice}"));
            }
        }
    }

    fn take(&mut self, setting: &'static Setting, found: Found, here: String) {
        let text = match &found {
            Found::Text(text) => text.into(),
            Found::Texts(texts) => texts.join(",").into(),
            Found::Path(path) => path.into(),
            Found::Secret(text) => text.as_str().into(),
            Found::Span(span) => format!("{}ms", span.as_millis()).into(),
            Found::Count(count) => count.to_string().into(),
        };
        self.variables.push((setting.variable(), text));
        self.found.insert(setting.name, (found, here));
    }

    fn secret_file(&mut self, setting: &'static Setting, path: &Path, here: String) {
        match std::fs::read_to_string(path) {
            Ok(text) => {
                let secret = Zeroizing::new(text.trim_end_matches(['\n', '\r']).to_owned());
                self.variables.push((format!("{}_FILE", setting.variable()), path.into()));
                self.found.insert(setting.name, (Found::Secret(secret), here));
            }
            Err(error) => {
                let (path, error) = (path.display(), with_causes(&error));
                self.problems.push(format!("{here}: {}_file: cannot read {path}: {error}", setting.name));
            }
        }
    }
}

/// The setting whose value stands in a file of its own, by the name that says which.
fn in_file(name: &str) -> Option<&'static Setting> {
    let name = name.strip_suffix("_file")?;
    SETTINGS.iter().find(|setting| setting.name == name && matches!(setting.kind, Kind::Secret))
}

/// A value of a file.
fn read(setting: &Setting, value: &Value, folder: &Path) -> Result<Found, String> {
    let shown = || match (setting.kind, value) {
        (Kind::Secret, _) => "something else".to_owned(),
        (_, Value::String(text)) => format!("{:?}", text.value().chars().take(80).collect::<String>()),
        (_, Value::Integer(number)) => number.value().to_string(),
        (_, Value::Boolean(word)) => word.value().to_string(),
        (_, other) => format!("a value that is of type {}", other.type_name()),
    };
    let wrong = || format!("expected {}, but found {}", setting.expected(), shown());
    match (setting.kind, value) {
        (Kind::Texts, Value::Array(values)) => {
            let texts = values.iter().map(|value| value.as_str().map(str::to_owned));
            texts.collect::<Option<_>>().map(Found::Texts).ok_or_else(wrong)
        }
        (Kind::Span(..) | Kind::Count(..), Value::Integer(number)) => {
            written(setting, &number.value().to_string()).map_err(|_| wrong())
        }
        (Kind::Texts | Kind::Count(..), _) => Err(wrong()),
        (Kind::Path, Value::String(path)) if !path.value().is_empty() => Ok(Found::Path(folder.join(path.value()))),
        (_, Value::String(text)) => written(setting, text.value()).map_err(|_| wrong()),
        _ => Err(wrong()),
    }
}

/// A value as the environment has it.
fn written(setting: &Setting, text: &str) -> Result<Found, String> {
    let found = match setting.kind {
        Kind::Secret => (!text.is_empty()).then(|| Found::Secret(Zeroizing::new(text.to_owned()))),
        Kind::Text => (!text.is_empty()).then(|| Found::Text(text.to_owned())),
        Kind::Path => (!text.is_empty()).then(|| Found::Path(text.into())),
        Kind::Texts => Some(Found::Texts(text.split(',').map(|text| text.trim().to_owned()).collect())),
        Kind::Span(from, to) => read_duration(text).ok().filter(|span| (from..=to).contains(span)).map(Found::Span),
        Kind::Count(from, to) => text.parse().ok().filter(|count| (from..=to).contains(count)).map(Found::Count),
        Kind::OneOf(words) => words.contains(&text).then(|| Found::Text(text.to_owned())),
    };
    found.ok_or_else(|| {
        let shown = match setting.kind {
            Kind::Secret => "nothing".to_owned(),
            _ => format!("{:?}", text.chars().take(80).collect::<String>()),
        };
        format!("expected {}, but found {shown}", setting.expected())
    })
}

/// Line and column of a byte, both counted from 1, the column in characters.
fn place(text: &str, at: usize) -> (usize, usize) {
    let before = text.get(..at).unwrap_or(text);
    let line = before.rsplit('\n').next().unwrap_or_default();
    (before.matches('\n').count() + 1, line.chars().count() + 1)
}
