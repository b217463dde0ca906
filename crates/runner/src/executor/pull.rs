//! Pulling images, and telling in the job's log how far it is.

use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use pondrix_core::image::Reference;
use pondrix_image::registry::{Pull, Pulling, Wanted, pull_and_tell};
use pondrix_image::{Image, Platform};

use super::context::JobExecutor;
use super::error::JobError;

/// How much has to be fetched for the log to tell of it, in bytes: less is there in a moment.
const WORTH_TELLING: u64 = 8_000_000;
/// How often is told how far it is.
const TELL_EVERY: Duration = Duration::from_secs(5);

impl JobExecutor {
    /// Brings an image into the store, for a platform. Where much of it has to be fetched, the log says so, and now
    /// and then how far it is.
    pub(crate) fn pull(&self, image: &Reference, platform: &Platform, wanted: Wanted) -> Result<Image, JobError> {
        let last: Mutex<Option<Instant>> = Mutex::new(None);
        let tell = |now: Pulling| {
            if now.bytes < WORTH_TELLING {
                return;
            }
            let mut last = last.lock().unwrap_or_else(PoisonError::into_inner);
            let is_over = now.layers_here == now.layers;
            let is_due = last.is_none_or(|last| last.elapsed() >= TELL_EVERY);
            let is_first = last.is_none();
            if is_over || is_due {
                self.log.say(&words(image, now, is_first));
                *last = Some(Instant::now());
            }
        };
        let registries = self.registries_of(&image.repository)?;
        let pull = Pull { image, platform, wanted, project: Some(&self.assignment.facts.id.project) };
        let pulling = pull_and_tell(pull, &registries, &self.folder.store, &tell);
        self.talk(pulling)
    }
}

/// An amount of bytes, for people.
fn amount(bytes: u64) -> String {
    match bytes {
        0..1_000_000 => format!("{:.1} kB", bytes as f64 / 1e3),
        1_000_000..1_000_000_000 => format!("{:.1} MB", bytes as f64 / 1e6),
        _ => format!("{:.1} GB", bytes as f64 / 1e9),
    }
}

/// How far it is, for people.
fn words(image: &Reference, now: Pulling, is_first: bool) -> String {
    let Pulling { layers, layers_here, bytes, bytes_here } = now;
    let [all, here] = [bytes, bytes_here].map(amount);
    let plural = if layers == 1 { "layer" } else { "layers" };
    if layers_here == layers {
        format!("pulled {image}: {layers} {plural}, {all}")
    } else if is_first {
        format!("pulling {image}: {layers} {plural}, {all}")
    } else {
        format!("pulling {image}: {layers_here} of {layers} {plural}, {here} of {all}")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn how_far_it_is_is_told_in_layers_and_bytes() {
        let image = "registry.fernhollow.test/base/shell:1".parse().unwrap();
        let at = |layers_here, bytes_here| Pulling { layers: 3, layers_here, bytes: 3_200_000, bytes_here };
        let name = "registry.fernhollow.test/base/shell:1";
        assert_eq!(words(&image, at(0, 0), true), format!("pulling {name}: 3 layers, 3.2 MB"));
        assert_eq!(words(&image, at(1, 100_000), false), format!("pulling {name}: 1 of 3 layers, 100.0 kB of 3.2 MB"));
        assert_eq!(words(&image, at(3, 3_200_000), false), format!("pulled {name}: 3 layers, 3.2 MB"));
    }
}
