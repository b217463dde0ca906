//! Compressing a stream on all processors, the same bytes whatever their number.
//!
//! The stream is cut into blocks, each of which is compressed by itself; they follow each other in the
//! result, which any decoder reads as one stream.

use std::io::{self, Write};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use std::thread;

use flate2::{Compress, Crc, FlushCompress};
use pondrix_core::image::Digest;
use serde::{Deserialize, Serialize};

use crate::hash::Hashing;
use crate::oci::media;

/// How many plain bytes a block has. Compression finds nothing across its edges: at this size that costs
/// less than a hundredth.
const BLOCK: usize = 1 << 20;
/// As gzip(1) does it when nothing is said.
const GZIP_LEVEL: u32 = 6;
/// As zstd(1) does it when nothing is said.
const ZSTD_LEVEL: i32 = 3;
/// How long the sample is that tells compressors apart, in bytes.
const SAMPLE: usize = 64 * 1024;
/// A gzip member begins (RFC 1952, 2.3): deflate, no flags, no time, no extra flags, made on Unix.
const GZIP_HEADER: [u8; 10] = [0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 0, 3];

/// How a layer is compressed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Compression {
    /// RFC 1952: every registry and every machine takes it.
    #[default]
    Gzip,
    /// RFC 8878: smaller, and faster to unpack.
    Zstd,
}

impl Compression {
    /// The media type of a layer that is compressed so.
    #[must_use]
    pub const fn media_type(self) -> &'static str {
        match self {
            Self::Gzip => media::LAYER_GZIP,
            Self::Zstd => media::LAYER_ZSTD,
        }
    }

    /// A text that is another one for the other kind, and mostly for another version of the same compressor: the digest
    /// of what it makes of a sample.
    pub(crate) fn fingerprint(self) -> &'static str {
        static GZIP: OnceLock<String> = OnceLock::new();
        static ZSTD: OnceLock<String> = OnceLock::new();
        let known = if self == Self::Gzip { &GZIP } else { &ZSTD };
        known.get_or_init(|| {
            let made = compressed(io::sink(), self, |to| to.write_all(&sample()));
            // Memory takes everything.
            made.map_or_else(|_| String::new(), |((), digest, _)| format!("{self:?} {digest}"))
        })
    }
}

/// Something that compressors find a lot to decide about in: texts and numbers that come again, at distances of all
/// kinds.
fn sample() -> Vec<u8> {
    let mut number: u32 = 7;
    let mut sample = Vec::with_capacity(SAMPLE);
    while sample.len() < SAMPLE {
        number = number.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        let back = (number >> 8) as usize % 4096;
        match sample.len().checked_sub(back) {
            Some(from) if number.is_multiple_of(3) => {
                let length = (number >> 24) as usize % 64;
                sample.extend_from_within(from..from.saturating_add(length).min(sample.len()));
            }
            _ => sample.extend(format!("{:x} ", number % 65_521).into_bytes()),
        }
    }
    sample
}

/// A block, compressed.
struct Done {
    bytes: Vec<u8>,
    crc: Crc,
}

/// A block to compress, and where to send it then.
struct Task {
    plain: Vec<u8>,
    is_last: bool,
    answer: SyncSender<io::Result<Done>>,
}

/// Takes the plain bytes.
pub(super) struct Blocks {
    plain: Vec<u8>,
    tasks: SyncSender<Task>,
    order: SyncSender<Receiver<io::Result<Done>>>,
}

/// Compresses what `fill` writes, into `to`. Answers what `fill` answers, and the digest and the number of the
/// compressed bytes.
pub(super) fn compressed<T>(
    to: impl Write + Send,
    kind: Compression,
    fill: impl FnOnce(&mut Blocks) -> io::Result<T>,
) -> io::Result<(T, Digest, u64)> {
    let workers = thread::available_parallelism().map_or(1, std::num::NonZero::get);
    let (tasks, waiting) = sync_channel::<Task>(workers);
    let waiting = Arc::new(Mutex::new(waiting));
    // Blocks that are done wait here for those in front of them: no more than these are in memory.
    let (order, in_order) = sync_channel(2 * workers);
    thread::scope(|scope| {
        for _ in 0..workers {
            let waiting = Arc::clone(&waiting);
            scope.spawn(move || work(&waiting, kind));
        }
        // Workers hold the only ends now: when they are gone, who sends is told so.
        drop(waiting);
        let writer = scope.spawn(move || write(to, kind, &in_order));
        let mut blocks = Blocks { plain: Vec::with_capacity(BLOCK), tasks, order };
        let filled = fill(&mut blocks).and_then(|answer| blocks.send(true).map(|()| answer));
        drop(blocks);
        let written = writer.join().unwrap_or_else(|_| Err(io::Error::other("the writer broke")));
        // What the writer met is why the filler could not go on.
        let (digest, count) = written?;
        Ok((filled?, digest, count))
    })
}

impl Blocks {
    fn send(&mut self, is_last: bool) -> io::Result<()> {
        let gone = || io::Error::from(io::ErrorKind::BrokenPipe);
        let plain = std::mem::replace(&mut self.plain, Vec::with_capacity(BLOCK));
        let (answer, answered) = sync_channel(1);
        self.order.send(answered).map_err(|_| gone())?;
        self.tasks.send(Task { plain, is_last, answer }).map_err(|_| gone())
    }
}

impl Write for Blocks {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let taken = bytes.len().min(BLOCK - self.plain.len());
        self.plain.extend_from_slice(&bytes[..taken]);
        if self.plain.len() == BLOCK {
            self.send(false)?;
        }
        Ok(taken)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

fn work(waiting: &Mutex<Receiver<Task>>, kind: Compression) {
    let mut gzip = Compress::new(flate2::Compression::new(GZIP_LEVEL), false);
    loop {
        let next = waiting.lock().unwrap_or_else(PoisonError::into_inner).recv();
        let Ok(task) = next else { return };
        let done = match kind {
            Compression::Gzip => deflate(&mut gzip, &task),
            Compression::Zstd => {
                zstd::bulk::compress(&task.plain, ZSTD_LEVEL).map(|bytes| Done { bytes, crc: Crc::new() })
            }
        };
        // Nobody waits for it when the writer has failed.
        let _ = task.answer.send(done);
    }
}

/// A block as part of a deflate stream (RFC 1951): it ends at a byte's edge and looks at nothing before it.
fn deflate(gzip: &mut Compress, task: &Task) -> io::Result<Done> {
    gzip.reset();
    let mut bytes = Vec::with_capacity(task.plain.len() / 2 + 1024);
    let flush = if task.is_last { FlushCompress::Finish } else { FlushCompress::Sync };
    loop {
        let taken = usize::try_from(gzip.total_in()).map_err(io::Error::other)?;
        gzip.compress_vec(&task.plain[taken..], &mut bytes, flush).map_err(io::Error::other)?;
        // With room left it had nothing more to say.
        if gzip.total_in() == task.plain.len() as u64 && bytes.len() < bytes.capacity() {
            break;
        }
        bytes.reserve(task.plain.len() / 4 + 1024);
    }
    let mut crc = Crc::new();
    crc.update(&task.plain);
    Ok(Done { bytes, crc })
}

fn write(
    to: impl Write,
    kind: Compression,
    in_order: &Receiver<Receiver<io::Result<Done>>>,
) -> io::Result<(Digest, u64)> {
    let mut to = Hashing::new(to);
    let mut crc = Crc::new();
    if kind == Compression::Gzip {
        to.write_all(&GZIP_HEADER)?;
    }
    while let Ok(next) = in_order.recv() {
        let done = next.recv().map_err(|_| io::Error::other("a compressor broke"))??;
        crc.combine(&done.crc);
        to.write_all(&done.bytes)?;
    }
    if kind == Compression::Gzip {
        to.write_all(&crc.sum().to_le_bytes())?;
        to.write_all(&crc.amount().to_le_bytes())?;
    }
    let (digest, count, mut to) = to.finish();
    to.flush()?;
    Ok((digest, count))
}

#[cfg(test)]
mod tests {
    use std::io::Read;

    use proptest::prelude::*;

    use super::*;

    fn through(kind: Compression, pieces: &[Vec<u8>]) -> Vec<u8> {
        let mut bytes = Vec::new();
        let ((), digest, count) =
            compressed(&mut bytes, kind, |to| pieces.iter().try_for_each(|p| to.write_all(p))).unwrap();
        assert_eq!((digest, count), (crate::digest_of(&bytes), bytes.len() as u64));
        bytes
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(12))]

        #[test]
        fn what_was_compressed_comes_back_and_always_as_the_same_bytes(
            seeds in prop::collection::vec((any::<u8>(), 0usize..3 * BLOCK / 2), 0..4),
            kind in prop::sample::select(vec![Compression::Gzip, Compression::Zstd]),
        ) {
            // Some of it compresses well, some hardly.
            let pieces: Vec<Vec<u8>> = seeds.iter().map(|(seed, length)| {
                let mut state = u32::from(*seed);
                (0..*length).map(|at| {
                    state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
                    if seed % 2 == 0 { (state >> 24) as u8 } else { (at % 251) as u8 }
                }).collect()
            }).collect();
            let bytes = through(kind, &pieces);
            let whole = vec![pieces.concat()];
            prop_assert!(through(kind, &whole) == bytes);
            let mut plain = Vec::new();
            // A decoder that knows of a single member reads all of it.
            match kind {
                Compression::Gzip => flate2::read::GzDecoder::new(&bytes[..]).read_to_end(&mut plain).unwrap(),
                Compression::Zstd => zstd::Decoder::new(&bytes[..]).unwrap().read_to_end(&mut plain).unwrap(),
            };
            prop_assert!(plain == whole[0]);
        }
    }

    #[test]
    fn a_disk_that_is_full_ends_it_with_the_disks_own_words() {
        struct Full;
        impl Write for Full {
            fn write(&mut self, _: &[u8]) -> io::Result<usize> {
                Err(io::ErrorKind::StorageFull.into())
            }
            fn flush(&mut self) -> io::Result<()> {
                Ok(())
            }
        }
        let error = compressed(Full, Compression::Gzip, |to| to.write_all(&vec![7; 20 * BLOCK])).unwrap_err();
        assert_eq!(error.kind(), io::ErrorKind::StorageFull);
    }
}
