//! A server in memory for tests: with scripted time, records, repositories, clusters and registries, and runners
//! that talk to it over a network which a test spoils.

mod faults;
mod following;
mod network;
mod ports;
mod random;
mod runner;
mod simulation;
mod together;
mod world;

use std::collections::BTreeMap;

use pondrix_core::Time;
use pondrix_core::pipeline::StartKind;
use pondrix_core::work::RunFacts;

pub(crate) use ports::{ScriptedCluster, ScriptedRepository};
pub(crate) use random::Random;
pub(crate) use runner::Plan;
pub(crate) use world::World;

/// The facts of a run of the branch `main`.
pub(crate) fn facts(run: &str) -> RunFacts {
    RunFacts {
        id: run.parse().unwrap(),
        commit: "c0ffee".repeat(7).chars().take(40).collect(),
        branch: "main".to_owned(),
        tag: None,
        commit_time: Time::from_millis(0),
        start: StartKind::Commit,
        inputs: BTreeMap::new(),
        is_try: false,
        was_trusted: true,
    }
}

/// Runs a test on one thread, in time that passes only where everything waits for it.
pub(crate) fn in_scripted_time<T>(test: impl Future<Output = T>) -> T {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_time().start_paused(true).build().unwrap();
    runtime.block_on(test)
}
