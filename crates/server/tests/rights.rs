//! The table of rights that people read is the one that requests are held against.

use std::path::Path;

const BEGIN: &str = "<!-- the table of rights begins -->\n";
const END: &str = "<!-- the table of rights ends -->\n";

#[test]
fn the_table_in_the_documents_is_the_one_that_requests_are_held_against() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/security.md");
    let committed = std::fs::read_to_string(&path).unwrap();
    let (before, rest) = committed.split_once(BEGIN).unwrap();
    let (_, after) = rest.split_once(END).unwrap();
    let generated = format!("{before}{BEGIN}\n{}\n{END}{after}", pondrix_server::rights_table());
    if std::env::var_os("PONDRIX_UPDATE").is_some() {
        std::fs::write(&path, &generated).unwrap();
    }
    let committed = std::fs::read_to_string(&path).unwrap();
    assert!(committed == generated, "docs/security.md is old: run `make contract`");
}
