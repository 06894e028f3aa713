//! A picture of who may reach what, kept beside the tests, so that a change to it is seen.

use std::path::Path;
use std::{env, fs};

use vorsel_core::AccessPlan;

/// Fails the test if who may reach which route is not what the file beside the package says: a route has lost its
/// protection, or somebody has gained or lost one. The file belongs into the repository, where its changes show in each
/// review. Run the tests with `VORSEL_ACCEPT_ACCESS=1` to write it again.
///
/// ```no_run
/// # let plan = vorsel::AccessPlan::builder().open("GET", "/health").build().expect("a plan");
/// vorsel::assert_access!(plan, "tests/access.txt");
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
/// If the table is another than the file's, if not all of it is settled, if there is no such file, or if it cannot be written.
#[track_caller]
pub fn assert_access(plan: &AccessPlan, path: impl AsRef<Path>) {
    let (path, table) = (path.as_ref(), plan.table());
    let now = table.to_string();
    assert!(table.is_settled(), "who may reach what is not settled; give the plan a larger budget\n{now}");
    let shown = path.display();
    if env::var_os("VORSEL_ACCEPT_ACCESS").is_some_and(|value| value == "1") {
        fs::write(path, now).unwrap_or_else(|error| panic!("cannot write {shown}: {error}"));
        return;
    }
    let accept = "run the test with VORSEL_ACCEPT_ACCESS=1 to accept it";
    let was = fs::read_to_string(path).unwrap_or_else(|error| panic!("cannot read {shown}: {error}; {accept}"));
    assert!(was == now, "who may reach what differs from {shown}; {accept}\n{}", difference(&was, &now));
}

/// The lines of one text that the other has not, in their order.
fn difference(was: &str, now: &str) -> String {
    let heads: Vec<&str> = now.lines().take(1).collect();
    let missing = |lines: &str, others: &str, sign: &str| -> Vec<String> {
        let others: Vec<&str> = others.lines().collect();
        lines.lines().filter(|line| !others.contains(line)).map(|line| format!("{sign} {line}")).collect()
    };
    let gone = missing(was, now, "-");
    let new = missing(now, was, "+");
    let heads = heads.iter().map(|head| format!("  {head}")).collect();
    [heads, gone, new].concat().join("\n")
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
        let path = folder.path().join("access.txt");
        fs::write(&path, plan("role operator").table().to_string()).expect("a file");
        assert_access(&plan("role operator"), &path);
        let failure = std::panic::catch_unwind(|| assert_access(&plan("signed-in"), &path)).expect_err("a difference");
        let message = failure.downcast_ref::<String>().expect("a message");
        let lines: Vec<_> = message.lines().skip(1).collect();
        assert_eq!(
            lines,
            [
                "  route        anyone  no role  operator",
                "- GET /dome    -       -        yes",
                "+ GET /dome    -       yes      yes",
            ]
        );
        assert!(std::panic::catch_unwind(|| assert_access(&plan("signed-in"), folder.path().join("none"))).is_err());
    }
}
