//! Lists the console's built files, to be embedded. Without them the server still builds, and its
//! console says how to make them.

use std::fmt::Write as _;
use std::path::{Path, PathBuf};
use std::{env, fs};

const NOT_BUILT: &str = "<!doctype html><title>Pondrix</title><p>The console is not built into this program. \
                         Run <code>make console</code> and build again.";

fn collect(folder: &Path, files: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        let path = entry.path();
        if path.is_dir() {
            collect(&path, files);
        } else {
            files.push(path);
        }
    }
}

fn main() {
    let out = PathBuf::from(env::var_os("OUT_DIR").expect("cargo sets OUT_DIR"));
    let manifest = PathBuf::from(env::var_os("CARGO_MANIFEST_DIR").expect("cargo sets CARGO_MANIFEST_DIR"));
    let dist = manifest.join("../../console/dist");
    println!("cargo::rerun-if-changed={}", dist.display());
    let mut files = Vec::new();
    collect(&dist, &mut files);
    files.sort();
    let mut code = "static FILES: &[(&str, &[u8])] = &[\n".to_owned();
    if files.is_empty() {
        let _ = writeln!(code, "    (\"index.html\", {NOT_BUILT:?}.as_bytes()),");
    }
    for file in &files {
        let name = file.strip_prefix(&dist).expect("files are below the folder they were found in");
        let path = file.canonicalize().expect("the file was just found");
        let _ =
            writeln!(code, "    ({:?}, include_bytes!({:?})),", name.display().to_string(), path.display().to_string());
    }
    code.push_str("];\n");
    fs::write(out.join("console_files.rs"), code).expect("OUT_DIR can be written");
}
