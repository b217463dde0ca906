//! The system calls that there are inside, by what they are for.
//!
//! What is in no group does not exist there (ENOSYS), so that a library falls back to what it did before; that holds for
//! calls of kernels to come, and for the numbers of the x32 convention. What is known and dangerous is refused in so many
//! words (EPERM).

/// System calls that belong together.
#[derive(Clone, Copy, Debug)]
pub(crate) struct CallGroup {
    /// What they are for, and why they are there.
    pub(crate) reason: &'static str,
    /// Name and number of each.
    pub(crate) calls: &'static [(&'static str, libc::c_long)],
}

macro_rules! calls {
    ($($call:ident)*) => {
        &[$((stringify!($call), libc::$call),)*]
    };
}

/// All of them.
pub(crate) const CALLS: &[CallGroup] = &[
    CallGroup {
        reason: "reading and writing files and folders: what the file system shows of itself is decided by its permissions, and by what is mounted inside",
        calls: calls![
            SYS_chdir SYS_chroot SYS_close SYS_close_range SYS_copy_file_range SYS_dup SYS_dup3 SYS_faccessat
            SYS_faccessat2 SYS_fadvise64 SYS_fallocate SYS_fchdir SYS_fchmod SYS_fchmodat SYS_fchown
            SYS_fchownat SYS_fcntl SYS_fdatasync SYS_fgetxattr SYS_flistxattr SYS_flock SYS_fremovexattr
            SYS_fsetxattr SYS_fstat SYS_fstatfs SYS_fsync SYS_ftruncate SYS_getcwd SYS_getdents64 SYS_getxattr
            SYS_inotify_add_watch SYS_inotify_init1 SYS_inotify_rm_watch SYS_ioctl SYS_lgetxattr SYS_linkat
            SYS_listxattr SYS_llistxattr SYS_lremovexattr SYS_lseek SYS_lsetxattr SYS_mkdirat SYS_mknodat
            SYS_newfstatat SYS_openat SYS_openat2 SYS_pread64 SYS_preadv SYS_preadv2 SYS_pwrite64 SYS_pwritev
            SYS_pwritev2 SYS_read SYS_readahead SYS_readlinkat SYS_readv SYS_removexattr SYS_renameat
            SYS_renameat2 SYS_sendfile SYS_setxattr SYS_splice SYS_statfs SYS_statx SYS_symlinkat SYS_sync
            SYS_sync_file_range SYS_syncfs SYS_tee SYS_truncate SYS_umask SYS_unlinkat SYS_utimensat
            SYS_vmsplice SYS_write SYS_writev
        ],
    },
    CallGroup {
        reason: "a process's own memory",
        calls: calls![
            SYS_brk SYS_get_mempolicy SYS_madvise SYS_mbind SYS_membarrier SYS_memfd_create SYS_mincore
            SYS_mlock SYS_mlock2 SYS_mlockall SYS_mmap SYS_mprotect SYS_mremap SYS_mseal SYS_msync SYS_munlock
            SYS_munlockall SYS_munmap SYS_pkey_alloc SYS_pkey_free SYS_pkey_mprotect SYS_process_madvise
            SYS_remap_file_pages SYS_set_mempolicy SYS_set_mempolicy_home_node
        ],
    },
    CallGroup {
        reason: "processes and threads, which are those of the job alone: it has numbers of processes of its own; new namespaces are refused",
        calls: calls![
            SYS_capget SYS_capset SYS_clone SYS_execve SYS_execveat SYS_exit SYS_exit_group SYS_futex
            SYS_futex_waitv SYS_get_robust_list SYS_getcpu SYS_getegid SYS_geteuid SYS_getgid SYS_getgroups
            SYS_getpgid SYS_getpid SYS_getppid SYS_getpriority SYS_getresgid SYS_getresuid SYS_getrlimit
            SYS_getrusage SYS_getsid SYS_gettid SYS_getuid SYS_ioprio_get SYS_ioprio_set SYS_kcmp SYS_kill
            SYS_personality SYS_pidfd_getfd SYS_pidfd_open SYS_pidfd_send_signal SYS_prctl SYS_prlimit64
            SYS_process_mrelease SYS_rseq SYS_sched_get_priority_max SYS_sched_get_priority_min
            SYS_sched_getaffinity SYS_sched_getattr SYS_sched_getparam SYS_sched_getscheduler
            SYS_sched_rr_get_interval SYS_sched_setaffinity SYS_sched_setattr SYS_sched_setparam
            SYS_sched_setscheduler SYS_sched_yield SYS_set_robust_list SYS_set_tid_address SYS_setfsgid
            SYS_setfsuid SYS_setgid SYS_setgroups SYS_setpgid SYS_setpriority SYS_setregid SYS_setresgid
            SYS_setresuid SYS_setreuid SYS_setrlimit SYS_setsid SYS_setuid SYS_tgkill SYS_tkill SYS_wait4
            SYS_waitid
        ],
    },
    CallGroup {
        reason: "looking into another process of the job, for debuggers and for tests that watch what they start",
        calls: calls![
            SYS_process_vm_readv SYS_ptrace
        ],
    },
    CallGroup {
        reason: "a process that gives up more rights for itself, as tests of such programs do",
        calls: calls![
            SYS_landlock_add_rule SYS_landlock_create_ruleset SYS_landlock_restrict_self SYS_seccomp
        ],
    },
    CallGroup {
        reason: "signals",
        calls: calls![
            SYS_restart_syscall SYS_rt_sigaction SYS_rt_sigpending SYS_rt_sigprocmask SYS_rt_sigqueueinfo
            SYS_rt_sigreturn SYS_rt_sigsuspend SYS_rt_sigtimedwait SYS_rt_tgsigqueueinfo SYS_sigaltstack
            SYS_signalfd4
        ],
    },
    CallGroup {
        reason: "clocks, which are read and not set, and waiting",
        calls: calls![
            SYS_adjtimex SYS_clock_getres SYS_clock_gettime SYS_clock_nanosleep SYS_getitimer SYS_gettimeofday
            SYS_nanosleep SYS_setitimer SYS_timer_create SYS_timer_delete SYS_timer_getoverrun SYS_timer_gettime
            SYS_timer_settime SYS_timerfd_create SYS_timerfd_gettime SYS_timerfd_settime SYS_times
        ],
    },
    CallGroup {
        reason: "waiting for several things at once",
        calls: calls![
            SYS_epoll_create1 SYS_epoll_ctl SYS_epoll_pwait SYS_epoll_pwait2 SYS_eventfd2 SYS_io_cancel
            SYS_io_destroy SYS_io_getevents SYS_io_setup SYS_io_submit SYS_ppoll SYS_pselect6
        ],
    },
    CallGroup {
        reason: "what processes of the job share: pipes, queues, memory, semaphores",
        calls: calls![
            SYS_mq_getsetattr SYS_mq_notify SYS_mq_open SYS_mq_timedreceive SYS_mq_timedsend SYS_mq_unlink
            SYS_msgctl SYS_msgget SYS_msgrcv SYS_msgsnd SYS_pipe2 SYS_semctl SYS_semget SYS_semop SYS_semtimedop
            SYS_shmat SYS_shmctl SYS_shmdt SYS_shmget
        ],
    },
    CallGroup {
        reason: "sockets: of Unix, of the internet, and for the kernel's routes; not for whole packets",
        calls: calls![
            SYS_accept SYS_accept4 SYS_bind SYS_connect SYS_getpeername SYS_getsockname SYS_getsockopt
            SYS_listen SYS_recvfrom SYS_recvmmsg SYS_recvmsg SYS_sendmmsg SYS_sendmsg SYS_sendto SYS_setsockopt
            SYS_shutdown SYS_socket SYS_socketpair
        ],
    },
    CallGroup {
        reason: "what every program asks of its machine",
        calls: calls![
            SYS_getrandom SYS_sysinfo SYS_uname
        ],
    },
    #[cfg(target_arch = "x86_64")]
    CallGroup {
        reason: "on x86-64: older forms of the same calls",
        calls: calls![
            SYS_access SYS_alarm SYS_arch_prctl SYS_chmod SYS_chown SYS_creat SYS_dup2 SYS_epoll_create
            SYS_epoll_wait SYS_eventfd SYS_fork SYS_futimesat SYS_getdents SYS_getpgrp SYS_inotify_init
            SYS_lchown SYS_link SYS_lstat SYS_mkdir SYS_mknod SYS_open SYS_pause SYS_pipe SYS_poll SYS_readlink
            SYS_rename SYS_rmdir SYS_select SYS_signalfd SYS_stat SYS_symlink SYS_time SYS_unlink SYS_ustat
            SYS_utime SYS_utimes SYS_vfork
        ],
    },
    CallGroup {
        reason: "newer forms of the same calls, which have the same numbers everywhere",
        calls: &[
            ("cachestat", 451),
            ("fchmodat2", 452),
            ("map_shadow_stack", 453),
            ("futex_wake", 454),
            ("futex_wait", 455),
            ("futex_requeue", 456),
            ("setxattrat", 463),
            ("getxattrat", 464),
            ("listxattrat", 465),
            ("removexattrat", 466),
        ],
    },
];

/// What there is besides where a command may make namespaces, and mount in those: of what is refused everywhere else.
pub(crate) const OF_NAMESPACES: &[libc::c_long] = &[
    libc::SYS_fsconfig,
    libc::SYS_fsmount,
    libc::SYS_fsopen,
    libc::SYS_fspick,
    libc::SYS_mount,
    libc::SYS_mount_setattr,
    libc::SYS_move_mount,
    libc::SYS_open_tree,
    libc::SYS_pivot_root,
    libc::SYS_setdomainname,
    libc::SYS_sethostname,
    libc::SYS_setns,
    libc::SYS_umount2,
    libc::SYS_unshare,
];

/// What nothing inside needs and has often been a way out. It says so in so many words, and not that it is not there.
pub(crate) const REFUSED: &[libc::c_long] = &[
    libc::SYS_acct,
    libc::SYS_add_key,
    libc::SYS_bpf,
    libc::SYS_clock_settime,
    libc::SYS_delete_module,
    libc::SYS_fanotify_init,
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
    libc::SYS_setdomainname,
    libc::SYS_sethostname,
    libc::SYS_setns,
    libc::SYS_settimeofday,
    libc::SYS_swapoff,
    libc::SYS_swapon,
    libc::SYS_syslog,
    libc::SYS_umount2,
    libc::SYS_unshare,
    libc::SYS_userfaultfd,
    libc::SYS_vhangup,
];

/// The groups for people, in Markdown.
#[must_use]
pub fn calls_table() -> String {
    let mut text = "| what for | system calls |\n|---|---|\n".to_owned();
    for CallGroup { reason, calls } in CALLS {
        let names: Vec<_> = calls.iter().map(|(name, _)| format!("`{}`", name.trim_start_matches("SYS_"))).collect();
        text.push_str(&format!("| {reason} | {} |\n", names.join(" ")));
    }
    text
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;

    #[test]
    fn every_call_is_in_one_group_and_none_is_refused_as_well() {
        let all: Vec<_> = CALLS.iter().flat_map(|group| group.calls).map(|(_, number)| *number).collect();
        let once: BTreeSet<_> = all.iter().copied().collect();
        assert_eq!(once.len(), all.len());
        assert!(REFUSED.iter().all(|refused| !once.contains(refused)));
        assert!(OF_NAMESPACES.iter().all(|call| REFUSED.contains(call)));
    }
}
