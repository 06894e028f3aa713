//! What the questions about plans cost: time and the most memory at once, to load a plan and to compare it with another.
//! `cargo bench -p vorsel --bench questions` prints the table.

use std::time::Instant;

use vorsel::{AccessPlan, PlanBuilder};

fn observatory() -> PlanBuilder {
    let roles = AccessPlan::builder().role("visitor", &[]).role("observer", &["visitor"]);
    roles.role("operator", &["observer"]).role("director", &["operator"])
}

fn measured<T>(work: impl FnOnce() -> T) -> (T, String) {
    let (start, mut result) = (Instant::now(), None);
    let memory = allocation_counter::measure(|| result = Some(work()));
    let figures = format!("{:>8.3} s{:>9.1} MB", start.elapsed().as_secs_f64(), memory.bytes_max as f64 / 1e6);
    (result.expect("it ran"), figures)
}

fn shape(name: &str, plan: impl Fn(bool) -> PlanBuilder) {
    let (before, load) = measured(|| plan(false).build().expect("a plan"));
    let after = plan(true).build().expect("a plan");
    let (changes, compare) = measured(|| before.compare(&after));
    let open = changes.iter().filter(|change| !change.is_settled).count();
    println!("{name:<44}{load}{compare}{:>8}{open:>12}", changes.len());
}

fn main() {
    println!("{:<44}{:>22}{:>22}{:>8}{:>12}", "plan", "load", "compare", "changes", "not settled");
    shape("1,000 routes, wildcards, twelve parts", |changed| {
        let night = "role observer and claims.training >= 2 and claims.shift in [\"dusk\", \"night\"]";
        let mut plan = observatory().policy("night", night).open("GET", "/{*files}");
        for area in 0..333 {
            plan = plan.need(
                "GET",
                &format!("/s{area}/{{a}}/{{b}}/{{c}}/d/e/f/g/h/i/j/k"),
                "path.a == sub or role director",
            );
            plan =
                plan.need("POST", &format!("/s{area}/items"), if changed { "role observer" } else { "role operator" });
            let rule = "policy night and scope dome:move and signed-in within 10m";
            plan = plan.need("DELETE", &format!("/s{area}/items/{{*rest}}"), rule);
        }
        plan
    });
    shape("a list of 100 file names beside twelve parts", |changed| {
        let names = (0..100).map(|number| format!("\"docs/file-{number}.html\""));
        let last = if changed { "\"y/z\"" } else { "\"x\"" };
        let list = format!("path.rest in [{}]", names.chain([last.to_owned()]).collect::<Vec<_>>().join(", "));
        let deep = "/f/a/{b}/{c}/{d}/{e}/{g}/{h}/{i}/{j}/{k}/{l}";
        observatory().need("GET", "/f/{*rest}", list.as_str()).need("GET", deep, "path.b == sub and path.l != path.c")
    });
    shape("200 policies that each name the next two", |changed| {
        let mut plan = observatory();
        for number in 0..200 {
            let [next, other] = [1, 2].map(|step| (number + step).min(199));
            let rule = format!("policy p{next} and claims.training >= {number} or policy p{other} and scope s{number}");
            let last = if changed { "role observer" } else { "role operator" };
            plan = plan.policy(&format!("p{number}"), if number == 199 { last } else { rule.as_str() });
        }
        let route = |plan: PlanBuilder, number: usize| {
            plan.need("GET", &format!("/x{number}"), format!("policy p{number}").as_str())
        };
        (0..20).fold(plan, route)
    });
    shape("200 policies over two numbers each", |changed| {
        let more = if changed { 2 } else { 1 };
        let mut plan = observatory();
        for number in 0..200 {
            let rule = format!("claims.n >= {number} and claims.m < {}", number + more);
            plan = plan.policy(&format!("p{number}"), rule.as_str());
        }
        let any: Vec<_> = (0..200).map(|number| format!("policy p{number}")).collect();
        plan.need("GET", "/", any.join(" or ").as_str())
    });
    shape("a rule over 8,000 claims", |changed| {
        let claims: Vec<_> =
            (usize::from(changed)..8_000).map(|number| format!("claims.c{number} == {number}")).collect();
        observatory().need("GET", "/", claims.join(" and ").as_str())
    });
    shape("a puzzle of 90 scopes", |changed| {
        let mut parts = Vec::new();
        let colour = |number: usize, colour: usize| format!("scope n{number}c{colour}");
        for number in 0..30 {
            parts.push(format!("({})", [0, 1, 2].map(|which| colour(number, which)).join(" or ")));
            let others = [1, 7, 11, 13].map(|step| (number * step + step) % 30);
            for other in others.into_iter().filter(|other| *other != number) {
                parts.extend(
                    [0, 1, 2].map(|which| format!("not ({} and {})", colour(number, which), colour(other, which))),
                );
            }
        }
        if changed {
            parts.push("scope more".to_owned());
        }
        observatory().need("GET", "/", parts.join(" and ").as_str())
    });
}
