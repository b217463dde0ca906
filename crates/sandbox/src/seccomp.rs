//! The system calls that nothing inside needs and that have often been a way out.

use seccompiler::{
    BpfProgram, SeccompAction, SeccompCmpArgLen, SeccompCmpOp, SeccompCondition, SeccompFilter, SeccompRule, TargetArch,
};

/// Refused with EPERM.
const REFUSED: [libc::c_long; 35] = [
    libc::SYS_acct,
    libc::SYS_add_key,
    libc::SYS_bpf,
    libc::SYS_clock_settime,
    libc::SYS_delete_module,
    libc::SYS_finit_module,
    libc::SYS_fsconfig,
    libc::SYS_fsmount,
    libc::SYS_fsopen,
    libc::SYS_fspick,
    libc::SYS_init_module,
    libc::SYS_io_uring_enter,
    libc::SYS_io_uring_register,
    libc::SYS_io_uring_setup,
    libc::SYS_kexec_load,
    libc::SYS_keyctl,
    libc::SYS_mount,
    libc::SYS_mount_setattr,
    libc::SYS_move_mount,
    libc::SYS_name_to_handle_at,
    libc::SYS_open_by_handle_at,
    libc::SYS_open_tree,
    libc::SYS_perf_event_open,
    libc::SYS_pivot_root,
    libc::SYS_process_vm_writev,
    libc::SYS_quotactl,
    libc::SYS_reboot,
    libc::SYS_request_key,
    libc::SYS_setns,
    libc::SYS_settimeofday,
    libc::SYS_swapoff,
    libc::SYS_swapon,
    libc::SYS_umount2,
    libc::SYS_unshare,
    libc::SYS_userfaultfd,
];

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

/// Sets the filter for this process and all that it starts; `no_new_privs` goes with it.
///
/// # Errors
/// When the filter cannot be made or set.
pub(crate) fn restrict() -> Result<(), Box<dyn std::error::Error + Send + Sync>> {
    let arch: TargetArch = std::env::consts::ARCH.try_into()?;
    let mut rules: std::collections::BTreeMap<_, _> = REFUSED.iter().map(|call| (*call, Vec::new())).collect();
    let new_user_namespace = SeccompCondition::new(
        0,
        SeccompCmpArgLen::Qword,
        SeccompCmpOp::MaskedEq(libc::CLONE_NEWUSER as u64),
        libc::CLONE_NEWUSER as u64,
    );
    let rule = new_user_namespace.and_then(|condition| SeccompRule::new(vec![condition]));
    rules.insert(libc::SYS_clone, vec![rule?]);
    rules.insert(libc::SYS_socket, vec![strange_family()?, raw_socket(libc::SOCK_RAW)?, raw_socket(SOCK_PACKET)?]);
    // A filter cannot look behind the pointer that clone3 takes. Where it does not exist, libraries
    // fall back to clone, whose flags are seen.
    let no_clone3 = [(libc::SYS_clone3, Vec::new())].into();
    for (rules, errno) in [(rules, libc::EPERM), (no_clone3, libc::ENOSYS)] {
        let action = SeccompAction::Errno(errno.unsigned_abs());
        let program: BpfProgram =
            SeccompFilter::new(rules, SeccompAction::Allow, action, arch).and_then(TryInto::try_into)?;
        seccompiler::apply_filter(&program)?;
    }
    Ok(())
}
