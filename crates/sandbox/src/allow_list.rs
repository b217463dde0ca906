//! A filter of system calls that allows those of a list, whatever their arguments: a search among ranges of numbers.
//!
//! The kernel runs a filter for each number once when it is set, and for each call that it does not remember. A comparison
//! for each call of the list, one after the other, took an eighth of the time of entering a sandbox.

use seccompiler::{BpfProgram, sock_filter};

/// Places in `struct seccomp_data` (seccomp(2)).
const NUMBER: u32 = 0;
const ARCHITECTURE: u32 = 4;

/// Instructions (linux/bpf_common.h): load a word from a place, compare with a constant, answer.
const LOAD: u16 = (libc::BPF_LD | libc::BPF_W | libc::BPF_ABS) as u16;
const IS_EQUAL: u16 = (libc::BPF_JMP | libc::BPF_JEQ | libc::BPF_K) as u16;
const IS_AT_LEAST: u16 = (libc::BPF_JMP | libc::BPF_JGE | libc::BPF_K) as u16;
const ANSWER: u16 = (libc::BPF_RET | libc::BPF_K) as u16;

/// What calls are of that this program makes (`AUDIT_ARCH_…` of linux/audit.h): machine, 64 bits, the lowest byte first.
const MACHINE: u32 = (if cfg!(target_arch = "aarch64") { 183 } else { 62 }) | 0x8000_0000 | 0x4000_0000;

const fn instruction(code: u16, k: u32, jt: u8, jf: u8) -> sock_filter {
    sock_filter { code, jt, jf, k }
}

const fn answer(action: u32) -> sock_filter {
    instruction(ANSWER, action, 0, 0)
}

/// A filter that allows these numbers, and answers every other with `otherwise`. Calls of another convention than this
/// program's end it.
///
/// # Errors
/// When there are so many ranges that a jump does not reach.
pub(crate) fn allow_list(
    numbers: impl IntoIterator<Item = libc::c_long>,
    otherwise: u32,
) -> Result<BpfProgram, std::num::TryFromIntError> {
    let mut numbers = numbers.into_iter().map(u32::try_from).collect::<Result<Vec<_>, _>>()?;
    numbers.sort_unstable();
    numbers.dedup();
    // Where what is allowed begins and ends, in turn.
    let mut edges: Vec<u32> = Vec::new();
    for number in numbers {
        if edges.last() == Some(&number) {
            edges.pop();
        } else {
            edges.push(number);
        }
        edges.push(number + 1);
    }
    let mut program = vec![
        instruction(LOAD, ARCHITECTURE, 0, 0),
        instruction(IS_EQUAL, MACHINE, 1, 0),
        answer(libc::SECCOMP_RET_KILL_PROCESS),
        instruction(LOAD, NUMBER, 0, 0),
    ];
    program.extend(search(&edges, false, otherwise)?);
    Ok(program)
}

/// A search among edges. Below the first, calls are allowed or not as `is_allowed` says; each edge changes that.
fn search(edges: &[u32], is_allowed: bool, otherwise: u32) -> Result<BpfProgram, std::num::TryFromIntError> {
    let middle = edges.len() / 2;
    let Some(edge) = edges.get(middle) else {
        return Ok(vec![answer(if is_allowed { libc::SECCOMP_RET_ALLOW } else { otherwise })]);
    };
    let below = search(&edges[..middle], is_allowed, otherwise)?;
    let above = search(&edges[middle + 1..], is_allowed ^ middle.is_multiple_of(2), otherwise)?;
    let mut program = vec![instruction(IS_AT_LEAST, *edge, u8::try_from(below.len())?, 0)];
    program.extend(below);
    program.extend(above);
    Ok(program)
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use proptest::prelude::*;

    use super::*;
    use crate::calls::CALLS;

    const REFUSED: u32 = libc::SECCOMP_RET_ERRNO | libc::ENOSYS as u32;

    /// What a filter answers, as the kernel runs it.
    fn run(program: &[sock_filter], number: u32, machine: u32) -> u32 {
        let (mut at, mut held) = (0, 0);
        loop {
            let sock_filter { code, jt, jf, k } = program[at];
            let jump = |is: bool| 1 + usize::from(if is { jt } else { jf });
            match code {
                LOAD => held = if k == NUMBER { number } else { machine },
                ANSWER => return k,
                IS_EQUAL => {
                    at += jump(held == k);
                    continue;
                }
                IS_AT_LEAST => {
                    at += jump(held >= k);
                    continue;
                }
                other => panic!("{other}"),
            }
            at += 1;
        }
    }

    #[test]
    fn the_calls_of_the_list_are_allowed_and_no_others() {
        let all: BTreeSet<libc::c_long> = CALLS.iter().flat_map(|group| group.calls).map(|(_, call)| *call).collect();
        let program = allow_list(all.iter().copied(), REFUSED).unwrap();
        assert!(program.len() < 400, "{} instructions", program.len());
        for number in 0..2000 {
            let expected = if all.contains(&number.into()) { libc::SECCOMP_RET_ALLOW } else { REFUSED };
            assert_eq!(run(&program, number, MACHINE), expected, "{number}");
        }
        // The convention x32 has numbers of its own, and programs of 32 bits another machine.
        assert_eq!(run(&program, 0x4000_0000 | 1, MACHINE), REFUSED);
        assert_eq!(run(&program, 1, 3 | 0x4000_0000), libc::SECCOMP_RET_KILL_PROCESS);
    }

    proptest! {
        #[test]
        fn any_list_is_what_is_allowed(numbers in proptest::collection::btree_set(0i64..300, 0..120)) {
            let program = allow_list(numbers.iter().copied(), REFUSED).unwrap();
            for number in 0..310 {
                let expected = if numbers.contains(&number.into()) { libc::SECCOMP_RET_ALLOW } else { REFUSED };
                prop_assert_eq!(run(&program, number, MACHINE), expected);
            }
        }
    }
}
