//! Keeping what is inside from system calls: there are those of a list, of some of them not all that they do.

use std::collections::BTreeMap;

use seccompiler::{
    BpfProgram, SeccompAction, SeccompCmpArgLen, SeccompCmpOp, SeccompCondition, SeccompFilter, SeccompRule, TargetArch,
};

use crate::allow_list::allow_list;
use crate::calls::{CALLS, OF_NAMESPACES, REFUSED};

/// The families of sockets that there are inside: the machine's own, both of the internet, and what asks the kernel for
/// its interfaces and routes.
const FAMILIES: [libc::c_int; 4] = [libc::AF_UNIX, libc::AF_INET, libc::AF_INET6, libc::AF_NETLINK];

/// A kind of sockets that nobody should use any more (packet(7)), and somebody still may.
const SOCK_PACKET: libc::c_int = 10;

/// A socket of any other family: those lead to the hypervisor (vsock), into the kernel's ciphers, to whole packets.
fn strange_family() -> Result<SeccompRule, seccompiler::BackendError> {
    let is_none = |family: libc::c_int| {
        SeccompCondition::new(0, SeccompCmpArgLen::Dword, SeccompCmpOp::Ne, u64::from(family.unsigned_abs()))
    };
    SeccompRule::new(FAMILIES.into_iter().map(is_none).collect::<Result<_, _>>()?)
}

/// A socket of this kind, for whole packets, of any family but that of the kernel's questions, which has no other kind.
fn raw_socket(kind: libc::c_int) -> Result<SeccompRule, seccompiler::BackendError> {
    /// What of the second argument is the kind (socket(2)).
    const KIND: u64 = 0xf;
    let netlink = u64::from(libc::AF_NETLINK.unsigned_abs());
    SeccompRule::new(vec![
        SeccompCondition::new(0, SeccompCmpArgLen::Dword, SeccompCmpOp::Ne, netlink)?,
        SeccompCondition::new(
            1,
            SeccompCmpArgLen::Dword,
            SeccompCmpOp::MaskedEq(KIND),
            u64::from(kind.unsigned_abs()),
        )?,
    ])
}

/// Namespaces that a new process would have of its own (clone(2)).
const NAMESPACES: [libc::c_int; 7] = [
    libc::CLONE_NEWCGROUP,
    libc::CLONE_NEWIPC,
    libc::CLONE_NEWNET,
    libc::CLONE_NEWNS,
    libc::CLONE_NEWPID,
    libc::CLONE_NEWUSER,
    libc::CLONE_NEWUTS,
];

/// A process with a namespace of its own.
fn apart(namespace: libc::c_int) -> Result<SeccompRule, seccompiler::BackendError> {
    let flag = u64::from(namespace.unsigned_abs());
    SeccompRule::new(vec![SeccompCondition::new(0, SeccompCmpArgLen::Qword, SeccompCmpOp::MaskedEq(flag), flag)?])
}

/// Requests that put characters into the input of a terminal, as if somebody typed them there (ioctl_tty(2), `TIOCSTI`), or
/// paste into a console (`TIOCLINUX`). The kernel reads 32 bits of a request.
const TYPING: [libc::Ioctl; 2] = [libc::TIOCSTI, libc::TIOCLINUX];

fn typing(request: libc::Ioctl) -> Result<SeccompRule, seccompiler::BackendError> {
    let is = SeccompCondition::new(1, SeccompCmpArgLen::Dword, SeccompCmpOp::Eq, u64::from(request as u32))?;
    SeccompRule::new(vec![is])
}

/// Calls that set the limit of core files. They succeed and change nothing: programs that guard secrets refuse to run where
/// they may not set it to 0, and 0 would let the machine have a core piped to a program.
fn core_limit() -> Result<Rules, seccompiler::BackendError> {
    let core = u64::from(libc::RLIMIT_CORE);
    let of_core = |argument| SeccompCondition::new(argument, SeccompCmpArgLen::Dword, SeccompCmpOp::Eq, core);
    let is_set = SeccompCondition::new(2, SeccompCmpArgLen::Qword, SeccompCmpOp::Ne, 0)?;
    Ok(Rules::from([
        (libc::SYS_setrlimit, vec![SeccompRule::new(vec![of_core(0)?])?]),
        (libc::SYS_prlimit64, vec![SeccompRule::new(vec![of_core(1)?, is_set])?]),
    ]))
}

/// What a filter answers, per call; no rule of a call stands for all that it does.
type Rules = BTreeMap<libc::c_long, Vec<SeccompRule>>;

/// Sets the filter for this process and all that it starts, which may make namespaces or not; `no_new_privs` goes with it.
///
/// # Errors
/// When the filter cannot be made or set.
pub(crate) fn restrict(namespaces: bool) -> Result<(), Box<dyn std::error::Error + Send + Sync>> {
    let arch: TargetArch = std::env::consts::ARCH.try_into()?;
    let errno = |errno: libc::c_int| SeccompAction::Errno(errno.unsigned_abs());
    // A filter cannot look behind the pointer that clone3 takes. Where it does not exist, libraries fall back to clone,
    // whose flags are seen.
    let own: &[libc::c_long] = if namespaces { OF_NAMESPACES } else { &[] };
    let known = CALLS.iter().flat_map(|group| group.calls).map(|(_, call)| *call).chain(own.iter().copied());
    let known = allow_list(known, libc::SECCOMP_RET_ERRNO | libc::ENOSYS.unsigned_abs())?;
    let mut refused: Rules = REFUSED.iter().map(|call| (*call, Vec::new())).collect();
    if namespaces {
        OF_NAMESPACES.iter().for_each(|call| drop(refused.remove(call)));
    } else {
        refused.insert(libc::SYS_clone, NAMESPACES.into_iter().map(apart).collect::<Result<_, _>>()?);
    }
    refused.insert(libc::SYS_socket, vec![strange_family()?, raw_socket(libc::SOCK_RAW)?, raw_socket(SOCK_PACKET)?]);
    refused.insert(libc::SYS_ioctl, TYPING.into_iter().map(typing).collect::<Result<_, _>>()?);
    let refused = SeccompFilter::new(refused, SeccompAction::Allow, errno(libc::EPERM), arch)?;
    // Of two that refuse the answer of the later one counts (seccomp(2), "RETURN VALUE").
    let unchanged = SeccompFilter::new(core_limit()?, SeccompAction::Allow, errno(0), arch)?;
    let programs: [BpfProgram; 3] = [known, unchanged.try_into()?, refused.try_into()?];
    programs.iter().try_for_each(|program| Ok(seccompiler::apply_filter(program)?))
}
