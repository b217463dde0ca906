//! The list of system calls that people read is the one that there is inside.

#![cfg(target_arch = "x86_64")]

const BEGIN: &str = "<!-- calls: written by a test -->\n";
const END: &str = "<!-- end of calls -->\n";

#[test]
fn the_documentation_has_every_system_call_that_there_is_inside() {
    let file = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/security.md");
    let text = std::fs::read_to_string(&file).unwrap();
    let (before, rest) = text.split_once(BEGIN).unwrap();
    let (found, after) = rest.split_once(END).unwrap();
    let table = format!("{}\n", pondrix_sandbox::calls_table());
    if std::env::var_os("PONDRIX_UPDATE").is_some() {
        std::fs::write(&file, format!("{before}{BEGIN}{table}{END}{after}")).unwrap();
        return;
    }
    assert_eq!(found, table, "set PONDRIX_UPDATE=1 to write it anew");
}
