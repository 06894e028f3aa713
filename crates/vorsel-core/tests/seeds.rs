//! The seeds of the fuzz targets, and what the fuzzer once found, go through the same entries.

mod entries;

use std::fs;
use std::path::Path;

#[test]
fn every_seed_keeps_the_promises() {
    let seeds = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/seeds");
    let targets: [(&str, fn(&[u8])); 4] =
        [("token", entries::token), ("header", entries::header), ("claims", entries::claims), ("key", entries::key)];
    for (target, entry) in targets {
        let files: Vec<_> = fs::read_dir(seeds.join(target)).expect("the seeds").collect();
        assert!(files.len() > 5, "{target} has seeds");
        for file in files {
            let path = file.expect("a seed").path();
            entry(&fs::read(&path).unwrap_or_else(|error| panic!("{}: {error}", path.display())));
        }
    }
}
