//! The helper alone, for this crate's own tests. Programs call `enter_if_asked` in their `main`.

fn main() {
    pondrix_sandbox::enter_if_asked();
    eprintln!("this program only helps the sandbox's tests");
    std::process::exit(2);
}
