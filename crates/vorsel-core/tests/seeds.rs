//! The seeds of the fuzz targets, and what the fuzzer once found, go through the same entries.

mod entries;

use std::fs;
use std::path::Path;

#[test]
fn every_seed_keeps_the_promises() {
    replay("token", entries::token);
    replay("header", entries::header);
    replay("claims", entries::claims);
    replay("key", entries::key);
    replay("plan", entries::plan);
}

fn replay(target: &str, entry: fn(&[u8])) {
    let seeds = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/seeds").join(target);
    let files: Vec<_> = fs::read_dir(seeds).expect("the seeds").collect();
    assert!(files.len() > 5, "{target} has seeds");
    for file in files {
        let path = file.expect("a seed").path();
        entry(&fs::read(&path).unwrap_or_else(|error| panic!("{}: {error}", path.display())));
    }
}
