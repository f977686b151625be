//! What the kernel refuses a script: memory that belongs to no process and is counted nowhere, and
//! what no script needs of the kernel's inner life.

use seccompiler::{SeccompAction, SeccompFilter, TargetArch, sock_filter};
use std::{collections::BTreeMap, env::consts::ARCH};

/// Refused with *operation not permitted* (EPERM).
const REFUSED: [i64; 22] = [
    // Memory outside of all processes.
    libc::SYS_memfd_create,
    libc::SYS_memfd_secret,
    libc::SYS_shmget,
    libc::SYS_msgget,
    libc::SYS_semget,
    libc::SYS_mq_open,
    libc::SYS_add_key,
    libc::SYS_request_key,
    libc::SYS_keyctl,
    libc::SYS_io_uring_setup,
    // The kernel's inner life.
    libc::SYS_bpf,
    libc::SYS_perf_event_open,
    libc::SYS_userfaultfd,
    libc::SYS_ptrace,
    libc::SYS_process_vm_writev,
    libc::SYS_kexec_load,
    libc::SYS_init_module,
    libc::SYS_finit_module,
    libc::SYS_mount,
    libc::SYS_pivot_root,
    libc::SYS_unshare,
    libc::SYS_setns,
];

/// The filter, as the kernel reads it (seccomp(2)); none for a kind of machine whose calls are not
/// known here.
pub(super) fn filter() -> Option<Vec<u8>> {
    let arch = TargetArch::try_from(ARCH).ok()?;
    let rules: BTreeMap<i64, _> = REFUSED.into_iter().map(|call| (call, Vec::new())).collect();
    let refused = SeccompAction::Errno(libc::EPERM.unsigned_abs());
    let filter = SeccompFilter::new(rules, SeccompAction::Allow, refused, arch).ok()?;
    let program: Vec<sock_filter> = filter.try_into().ok()?;
    let bytes = |one: &sock_filter| {
        let (code, k) = (one.code.to_ne_bytes(), one.k.to_ne_bytes());
        [code[0], code[1], one.jt, one.jf, k[0], k[1], k[2], k[3]]
    };
    Some(program.iter().flat_map(bytes).collect())
}
