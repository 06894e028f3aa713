//! A picture of who may reach what, kept beside the tests, so that a change to it is seen.

use std::path::Path;
use std::{env, fs, io};

use vorsel_core::{AccessPlan, Change, RouteChange};

/// Fails the test if who may reach which route is not what the file beside the package says: a route has lost its
/// protection, or somebody has gained or lost one. The file belongs into the repository, where its changes show in each
/// review. Run the tests with `VORSEL_ACCEPT_ACCESS=1` to write it again.
///
/// ```no_run
/// # let plan = vorsel::AccessPlan::builder().open("GET", "/health").build().expect("a plan");
/// vorsel::assert_access!(plan, "tests/access.toml");
/// ```
#[macro_export]
macro_rules! assert_access {
    ($plan:expr, $file:expr) => {
        $crate::testing::assert_access(&$plan, concat!(env!("CARGO_MANIFEST_DIR"), "/", $file))
    };
}

/// What [`assert_access!`](crate::assert_access!) does, for any path.
///
/// # Panics
/// If somebody gains or loses a route against the plan in the file, if that is not settled, if there is no such file or it is no
/// plan, or if it cannot be written.
#[track_caller]
pub fn assert_access(plan: &AccessPlan, path: impl AsRef<Path>) {
    let path = path.as_ref();
    let shown = path.display();
    if env::var_os("VORSEL_ACCEPT_ACCESS").is_some_and(|value| value == "1") {
        keep(plan, path).unwrap_or_else(|error| panic!("cannot write {shown}: {error}"));
        return;
    }
    let accept = "run the test with VORSEL_ACCEPT_ACCESS=1 to accept it";
    let was = fs::read_to_string(path).unwrap_or_else(|error| panic!("cannot read {shown}: {error}; {accept}"));
    let was = AccessPlan::read(&was, &shown.to_string()).unwrap_or_else(|error| panic!("{error}\n{accept}"));
    let changes = was.compare(plan);
    assert!(changes.is_empty(), "who may reach what differs from {shown}; {accept}\n{}", described(&changes));
}

/// A new package has no folder of tests.
fn keep(plan: &AccessPlan, path: &Path) -> io::Result<()> {
    path.parent().map_or(Ok(()), fs::create_dir_all)?;
    let head = "# Who may reach what, as the tests hold it: accepted with VORSEL_ACCEPT_ACCESS=1.";
    fs::write(path, format!("{head}\n\n{}", plan.to_toml()))
}

/// A line for each who gains or loses a route.
fn described(changes: &[RouteChange]) -> String {
    let mut lines = Vec::new();
    for change in changes {
        let route = format!("{} {}", change.method(), change.path());
        let mut add = |sign: &str, does: &str, changes: &[Change]| {
            for Change { who, witness, .. } in changes {
                lines.push(format!("{sign} {route}: {who} {does} it, for example {witness}"));
            }
        };
        add("+", "gains", &change.gains);
        add("-", "loses", &change.loses);
        if !change.is_settled {
            lines.push(format!("? {route}: not settled; give the plan a larger budget"));
        }
    }
    lines.join("\n")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn plan(rule: &str) -> AccessPlan {
        let plan = AccessPlan::builder().role("operator", &[]).open("GET", "/health").need("GET", "/dome", rule);
        plan.build().expect("a plan")
    }

    #[test]
    fn a_route_that_loses_its_protection_is_shown() {
        let folder = tempfile::tempdir().expect("a folder");
        let path = folder.path().join("tests/access.toml");
        keep(&plan("role operator"), &path).expect("a file in a folder of its own");
        assert_access(&plan("role operator"), &path);
        let failure = std::panic::catch_unwind(|| assert_access(&plan("signed-in"), &path)).expect_err("a difference");
        let message = failure.downcast_ref::<String>().expect("a message");
        let lines: Vec<_> = message.lines().skip(1).collect();
        assert_eq!(lines, ["+ GET /dome: no role gains it, for example GET /dome by sub \"somebody\""], "{message}");
        // A new role that changes nothing for anybody is no difference, and one line in the file.
        let with_role = AccessPlan::builder().role("operator", &[]).role("guest", &[]).open("GET", "/health");
        assert_access(&with_role.need("GET", "/dome", "role operator").build().expect("a plan"), &path);
        assert!(std::panic::catch_unwind(|| assert_access(&plan("signed-in"), folder.path().join("none"))).is_err());
    }
}
