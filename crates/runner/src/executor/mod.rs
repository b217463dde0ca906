//! The doing of a job, on a thread of its own: commands ([`steps`]), an image ([`image`]), or an index over images
//! that other jobs built ([`index`]). What these need is in [`context`], and nothing below knows of them.

mod agent;
pub(crate) mod artifacts;
mod context;
mod disk_space;
mod error;
mod image;
mod index;
mod inspector;
mod leaks;
mod pull;
mod push;
mod resolver;
mod site;
mod source;
mod steps;
mod surroundings;
mod time;

pub(crate) use context::{End, JobExecutor};
pub(crate) use inspector::SandboxInspector;
pub(crate) use time::JobTime;

use pondrix_core::run::Outcome;
use pondrix_core::work::Work;
use pondrix_files::TemporaryFolder;

use crate::contact::Ending;

/// Does a job. Answers how it ended, and its folder, which is removed when it is dropped.
pub(crate) fn carry_out(mut executor: JobExecutor) -> (End, TemporaryFolder) {
    executor.bound();
    let end = match &executor.assignment.work {
        Work::Steps(work) => steps::carry_out(&executor, work),
        Work::Image(work) if !work.parts.is_empty() => index::carry_out(&executor, work),
        Work::Image(work) => image::carry_out(&executor, work),
    };
    let end = match (&end.reason, executor.why_full()) {
        // The system only says that no space is left on the device.
        (Some(reason), Some(full)) if !reason.contains(&full) => End::failed(format!("{full}: {reason}")),
        _ => end,
    };
    let end = match executor.why_ending() {
        Some(Ending::Halted) => End { outcome: Outcome::Stopped, reason: None },
        Some(Ending::Alone) => {
            let seconds = executor.assignment.lease_seconds;
            let reason = format!(
                "the runner did not reach the server for so long that the job may be another's ({seconds} s); it ended it"
            );
            End { outcome: Outcome::Lost, reason: Some(reason) }
        }
        None => end,
    };
    if let Some(reason) = &end.reason {
        executor.log.say(reason);
    }
    let end = End { reason: end.reason.map(|reason| executor.log.hide(&reason)), ..end };
    (end, executor.scratch)
}
