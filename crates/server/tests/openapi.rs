//! The contract that is committed is the one that the server answers by.

use std::path::Path;

#[test]
fn the_committed_openapi_document_is_the_generated_one() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/openapi.json");
    let generated = pondrix_server::openapi_document().unwrap() + "\n";
    if std::env::var_os("PONDRIX_UPDATE").is_some() {
        std::fs::write(&path, &generated).unwrap();
    }
    let committed = std::fs::read_to_string(&path).unwrap_or_default();
    assert!(committed == generated, "docs/openapi.json is old: run `make contract`");
}
