//! Key folders: made once, shared by many, closed to others.
#![cfg(unix)]

use std::fs::{self, Permissions};
use std::os::unix::fs::PermissionsExt;

use vorsel::{KeyFolder, KeyFolderError};

#[test]
fn many_that_come_at_once_get_the_same_keys() {
    let folder = tempfile::tempdir().expect("a folder");
    let keys = folder.path().join("new/keys");
    let openings: Vec<_> = (0..8)
        .map(|_| {
            let keys = keys.clone();
            std::thread::spawn(move || {
                let keys = KeyFolder::open(keys).expect("keys");
                (keys.access.key_id().to_owned(), keys.refresh.key_id().to_owned())
            })
        })
        .collect();
    let ids: Vec<_> = openings.into_iter().map(|opening| opening.join().expect("no panic")).collect();
    assert!(ids.iter().all(|id| *id == ids[0]), "{ids:?}");
    let files: Vec<_> = fs::read_dir(&keys).expect("the folder").map(|file| file.expect("a file").path()).collect();
    assert_eq!(files.len(), 2, "no drafts are left: {files:?}");
    for file in files {
        assert_eq!(fs::metadata(file).expect("a file").permissions().mode() & 0o777, 0o600);
    }
}

#[test]
fn files_that_others_can_read_or_that_hold_no_key_are_refused() {
    let folder = tempfile::tempdir().expect("a folder");
    KeyFolder::open(folder.path()).expect("keys");
    let file = folder.path().join(KeyFolder::REFRESH);
    fs::set_permissions(&file, Permissions::from_mode(0o640)).expect("a mode");
    let error = KeyFolder::open(folder.path()).expect_err("exposed");
    assert!(matches!(error, KeyFolderError::Exposed { mode: 0o640, .. }), "{error}");
    fs::set_permissions(&file, Permissions::from_mode(0o600)).expect("a mode");
    fs::write(&file, "{}").expect("a file");
    assert!(matches!(KeyFolder::open(folder.path()), Err(KeyFolderError::Key { .. })));
}
