use std::os::unix::fs::symlink;

use super::*;

#[test]
fn folders_that_lead_out_of_the_drill_are_found() {
    let place = tempfile::tempdir().unwrap();
    let (top, live) = (place.path().join("drill"), place.path().join("live"));
    let data = top.join("restored/files/data");
    for folder in [&data.join("base/1"), &data.join("pg_tblspc"), &top.join("restored/files/shore"), &live] {
        fs::create_dir_all(folder).unwrap();
    }
    fs::write(live.join("postgresql.conf"), "").unwrap();
    symlink(live.join("postgresql.conf"), data.join("postgresql.conf")).unwrap();
    symlink(top.join("restored/files/shore"), data.join("pg_tblspc/16384")).unwrap();
    symlink("/nowhere", data.join("base/gone")).unwrap();
    symlink(&live, data.join("log")).unwrap();
    assert_eq!(leads_out(&data, &top).unwrap(), []);
    symlink(&live, data.join("base/2")).unwrap();
    assert_eq!(leads_out(&data, &top).unwrap(), [("base/2".to_owned(), fs::canonicalize(&live).unwrap())]);
    // What cannot be looked at is not taken for harmless.
    assert!(leads_out(&data.join("nowhere"), &top).is_err());
}
