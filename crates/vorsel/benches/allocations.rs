//! How often checking and issuing ask for memory. Apart from `tokens`, since counting takes time.

use vorsel::Algorithm;

mod common;
use common::Case;

fn main() {
    println!("{:<8}{:>8}{:>8}{:>14}", "", "check", "issue", "check seen");
    for algorithm in Algorithm::ALL {
        let case = Case::of(algorithm);
        case.check_seen();
        let count = |what: &dyn Fn()| allocation_counter::measure(what).count_total;
        let [check, issue, seen] = [count(&|| case.check()), count(&|| case.issue()), count(&|| case.check_seen())];
        println!("{:<8}{check:>8}{issue:>8}{seen:>14}", algorithm.name());
    }
}
