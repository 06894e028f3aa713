//! A plan as the text of an `access.toml`.

use std::fmt::Write;

use super::table::{Access, AccessPlan};

impl AccessPlan {
    /// The plan as the text of an `access.toml` that means the same: each role with all that it includes, each policy, each route.
    ///
    /// ```
    /// use vorsel_core::AccessPlan;
    ///
    /// let plan = AccessPlan::builder().role("operator", &[]).need("POST", "/dome", "role operator").build()?;
    /// assert!(AccessPlan::read(&plan.to_toml(), "access.toml")?.compare(&plan).is_empty());
    /// # Ok::<(), vorsel_core::PlanError>(())
    /// ```
    #[must_use]
    pub fn to_toml(&self) -> String {
        let mut text = String::new();
        if self.all_subjects {
            text.push_str("subjects = \"all\"\n\n");
        }
        text.push_str("[roles]\n");
        for (role, includes) in self.roles() {
            let includes: Vec<String> = includes.into_iter().map(string).collect();
            line(&mut text, format_args!("{} = [{}]", string(role), includes.join(", ")));
        }
        text.push_str("\n[policies]\n");
        for (name, rule) in self.policies() {
            line(&mut text, format_args!("{} = {}", string(name), string(&rule.to_string())));
        }
        for route in &self.routes {
            // The bare path of a fallback comes with the other one.
            let path = match (route.is_fallback, route.path.strip_suffix("/{*fallback}")) {
                (true, None) => continue,
                (true, Some("")) => "/",
                (true, Some(prefix)) => prefix,
                (false, _) => route.path.as_str(),
            };
            text.push_str("\n[[routes]]\n");
            line(&mut text, format_args!("method = {}", string(&route.method)));
            line(&mut text, format_args!("path = {}", string(path)));
            if route.is_fallback {
                text.push_str("fallback = true\n");
            }
            match &route.access {
                Access::Open => text.push_str("open = true\n"),
                Access::Need(rule) => line(&mut text, format_args!("need = {}", string(&rule.to_string()))),
            }
        }
        text
    }
}

fn line(text: &mut String, words: std::fmt::Arguments<'_>) {
    let _ = writeln!(text, "{words}");
}

/// A basic string of TOML.
fn string(text: &str) -> String {
    let mut written = String::from("\"");
    for character in text.chars() {
        match character {
            '"' | '\\' => written.extend(['\\', character]),
            character if character.is_control() => {
                let _ = write!(written, "\\u{:04X}", u32::from(character));
            }
            character => written.push(character),
        }
    }
    written.push('"');
    written
}
