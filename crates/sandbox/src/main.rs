//! The helper alone, for this crate's own tests. Programs call `enter_if_asked` in their `main`.

fn main() {
    pondrix_sandbox::enter_if_asked(&[("look", look), ("take", take), ("break", broken)]);
    eprintln!("this program only helps the sandbox's tests");
    std::process::exit(2);
}

/// Prints what is in the files that are named, and why it is not.
fn look(paths: &[String]) -> i32 {
    for path in paths {
        match std::fs::read_to_string(path) {
            Ok(text) => {
                println!("{path}: {}", text.lines().filter(|line| is_of_interest(line)).collect::<Vec<_>>().join(" "))
            }
            Err(error) => println!("{path}: {error}"),
        }
    }
    let open = std::fs::read_dir("/proc/self/fd").map_or(0, Iterator::count);
    println!("{} open, write: {}", open - 1, std::fs::write("/files/new", "").is_ok());
    i32::from(paths.is_empty())
}

fn is_of_interest(line: &str) -> bool {
    !line.contains(':') || line.starts_with("CapEff") || line.starts_with("Seccomp:")
}

/// Takes more memory than there may be.
fn take(_: &[String]) -> i32 {
    let taken = vec![1_u8; 3 << 30];
    i32::from(taken.last().copied().unwrap_or(0))
}

fn broken(_: &[String]) -> i32 {
    panic!("it broke")
}
