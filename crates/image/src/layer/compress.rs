//! Compressing a stream on all processors, the same bytes whatever their number.
//!
//! The stream is cut into blocks, each of which is compressed by itself; they follow each other in the
//! result, which any decoder reads as one stream.

use std::io::{self, Write};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use std::thread;

use flate2::Crc;
use pondrix_core::image::Digest;
use serde::{Deserialize, Serialize};
use zlib_rs::{Deflate, DeflateConfig, DeflateFlush, Strategy};

use crate::hash::Hashing;
use crate::oci::media;

/// How many plain bytes a block has. Compression finds nothing across its edges: at this size that costs
/// less than a hundredth.
const BLOCK: usize = 1 << 20;
/// How hard gzip looks for what came before. At the next higher level texts take twice the time, and become a
/// twenty-fifth shorter; programs hardly become shorter at all.
const GZIP_LEVEL: i32 = 5;
/// How hard it looks where it is only tried whether there is anything to find.
const TRIAL_LEVEL: i32 = 2;
/// How many parts of a block are tried, and how long each is: no shorter than the distance over which something is found
/// mostly.
const TRIALS: usize = 4;
const TRIAL: usize = 16 * 1024;
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
    let mut gzip = Gzip::new();
    loop {
        let next = waiting.lock().unwrap_or_else(PoisonError::into_inner).recv();
        let Ok(task) = next else { return };
        let done = match kind {
            Compression::Gzip => gzip.block(&task),
            Compression::Zstd => {
                zstd::bulk::compress(&task.plain, ZSTD_LEVEL).map(|bytes| Done { bytes, crc: Crc::new() })
            }
        };
        // Nobody waits for it when the writer has failed.
        let _ = task.answer.send(done);
    }
}

/// Compresses blocks as parts of a deflate stream (RFC 1951).
///
/// In pictures, archives and other things that are compressed already nothing comes again, and looking for it takes four
/// times as long as writing each byte by how often it occurs. Whether that is so is tried on parts of each block, so that
/// the same block always becomes the same bytes.
struct Gzip {
    matching: Deflate,
    trying: Deflate,
    /// Looks for nothing that came before.
    counting: Deflate,
}

impl Gzip {
    fn new() -> Self {
        let deflate = |level, strategy| {
            // Less than nothing: without a header (zlib.h, `deflateInit2`).
            Deflate::new_with_config(DeflateConfig { level, strategy, window_bits: -15, ..DeflateConfig::default() })
        };
        Self {
            matching: deflate(GZIP_LEVEL, Strategy::Default),
            trying: deflate(TRIAL_LEVEL, Strategy::Default),
            counting: deflate(GZIP_LEVEL, Strategy::HuffmanOnly),
        }
    }

    /// A block: it ends at a byte's edge and looks at nothing before it.
    fn block(&mut self, task: &Task) -> io::Result<Done> {
        let by = if self.has_matches(&task.plain)? { &mut self.matching } else { &mut self.counting };
        let flush = if task.is_last { DeflateFlush::Finish } else { DeflateFlush::SyncFlush };
        let bytes = deflated(by, &task.plain, flush)?;
        let mut crc = Crc::new();
        crc.update(&task.plain);
        Ok(Done { bytes, crc })
    }

    /// Whether something in a block comes again so often that looking for it makes it shorter.
    fn has_matches(&mut self, block: &[u8]) -> io::Result<bool> {
        if block.len() < 2 * TRIALS * TRIAL {
            return Ok(true);
        }
        for number in 0..TRIALS {
            let part = &block[number * (block.len() / TRIALS)..][..TRIAL];
            let matched = deflated(&mut self.trying, part, DeflateFlush::Finish)?.len();
            if matched < deflated(&mut self.counting, part, DeflateFlush::Finish)?.len() {
                return Ok(true);
            }
        }
        Ok(false)
    }
}

fn deflated(by: &mut Deflate, plain: &[u8], flush: DeflateFlush) -> io::Result<Vec<u8>> {
    by.reset();
    let (mut bytes, mut taken, mut made) = (vec![0; plain.len() + plain.len() / 64 + 1024], 0, 0);
    loop {
        by.compress(&plain[taken..], &mut bytes[made..], flush)
            .map_err(|error| io::Error::other(format!("gzip: {}", error.as_str())))?;
        taken = usize::try_from(by.total_in()).map_err(io::Error::other)?;
        made = usize::try_from(by.total_out()).map_err(io::Error::other)?;
        // With room left it had nothing more to say.
        if taken == plain.len() && made < bytes.len() {
            bytes.truncate(made);
            return Ok(bytes);
        }
        bytes.resize(2 * bytes.len(), 0);
    }
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
    fn what_nothing_comes_again_in_is_not_searched_and_becomes_no_longer_by_that() {
        let mut gzip = Gzip::new();
        let mut state = 4711_u32;
        let mut next = || {
            state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            (state >> 24) as u8
        };
        let noise: Vec<u8> = (0..BLOCK).map(|_| next() & 0x5f).collect();
        let text: Vec<u8> = "a lily in the pond, a fern in the moss; ".bytes().cycle().take(BLOCK).collect();
        let half: Vec<u8> = noise[..BLOCK / 2].iter().chain(&text[BLOCK / 2..]).copied().collect();
        assert!(!gzip.has_matches(&noise).unwrap());
        assert!(gzip.has_matches(&text).unwrap() && gzip.has_matches(&half).unwrap());
        let searched = deflated(&mut gzip.matching, &noise, DeflateFlush::SyncFlush).unwrap();
        let task = |plain| Task { plain, is_last: false, answer: sync_channel(1).0 };
        assert!(gzip.block(&task(noise)).unwrap().bytes.len() <= searched.len());
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
