//! A job's log: from its processes to a file, and from the file to the server.
//!
//! The file is what makes a restart of the server harmless: what was not delivered yet is still
//! there, and the server says up to where it has it.

use std::collections::VecDeque;
use std::fs::File;
use std::io::{PipeReader, Read, Write};
use std::os::fd::OwnedFd;
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;

use pondrix_api::{Assignment, NamedSecret, RunnerClient};
use pondrix_core::Size;
use pondrix_core::mask::Masker;
use tokio::sync::watch;
use tracing::warn;

use crate::contact::Contact;

/// After how many bytes a line of a service is broken.
const LONGEST_LINE: usize = 16 * 1024;
/// The most that is sent at once.
const CHUNK: usize = 512 * 1024;
/// How much of the end of a step is kept where its log is too long.
const END_KEPT: usize = 64 * 1024;

/// How much of a log is kept, and what is over that: of each step the end, which is what mostly matters.
#[derive(Debug)]
struct Room {
    /// The longest that the log may be, in bytes.
    limit: u64,
    /// How much more of what jobs say is kept.
    left: u64,
    /// The last of what came since there is no more room.
    end: VecDeque<u8>,
    /// How much of it is lost.
    lost: u64,
    /// Whether it was told that there is no more room.
    is_told: bool,
}

impl Room {
    fn new(limit: u64, before: u64) -> Self {
        Self { limit, left: limit.saturating_sub(before), end: VecDeque::new(), lost: 0, is_told: false }
    }

    /// What is to be written of something that was said.
    fn admit(&mut self, bytes: &[u8]) -> Vec<u8> {
        let count = usize::try_from(self.left).unwrap_or(usize::MAX).min(bytes.len());
        let (kept, over) = bytes.split_at(count);
        self.left -= count as u64;
        if over.is_empty() {
            return kept.to_vec();
        }
        let newest = &over[over.len().saturating_sub(END_KEPT)..];
        let excess = (self.end.len() + newest.len()).saturating_sub(END_KEPT);
        self.end.drain(..excess);
        self.end.extend(newest);
        self.lost += (over.len() - newest.len() + excess) as u64;
        if std::mem::replace(&mut self.is_told, true) {
            return Vec::new();
        }
        let limit = Size::from_bytes(self.limit);
        let words = format!(
            "\n(here the log has reached {limit}, the most that is kept of a job; of what follows, the end of each step is)\n"
        );
        [kept, words.as_bytes()].concat()
    }

    /// What is to be written at the end of a step: how much is lost, and what came last.
    fn end(&mut self) -> Vec<u8> {
        let end: Vec<u8> = std::mem::take(&mut self.end).into();
        let lost = std::mem::take(&mut self.lost);
        if lost == 0 {
            return end;
        }
        // What is left of the first line says nothing.
        let from = end.iter().position(|byte| *byte == b'\n').map_or(0, |at| at + 1);
        let words = format!("({} are left out here)\n", Size::from_bytes(lost + from as u64));
        [words.as_bytes(), &end[from..]].concat()
    }
}

/// Where the log is collected.
#[derive(Clone, Debug)]
pub(crate) struct Log {
    file: Arc<File>,
    /// How long the job's log was before, in bytes: what was written when it was tried earlier.
    base: u64,
    /// Hides secrets in it; each stream has one like it.
    hidden: Arc<Mutex<Hidden>>,
    /// How long the file is.
    length: watch::Sender<u64>,
    room: Arc<Mutex<Room>>,
}

/// What is hidden.
#[derive(Debug)]
struct Hidden {
    secrets: Vec<NamedSecret>,
    masker: Masker,
}

impl Hidden {
    fn of(secrets: Vec<NamedSecret>) -> Self {
        let masker = Masker::new(secrets.iter().map(|secret| (secret.name.as_str(), secret.value.as_slice())));
        Self { secrets, masker }
    }
}

/// A piece of the log being written, by a step.
pub(crate) struct Piece {
    writer: OwnedFd,
    reader: JoinHandle<()>,
    log: Log,
}

impl Log {
    /// A log that continues one of so many bytes, is to be no longer than so many, and in which these secrets are hidden.
    pub(crate) fn new(path: &Path, base: u64, limit: u64, secrets: &[NamedSecret]) -> std::io::Result<Self> {
        let file = File::options().create_new(true).read(true).append(true).open(path)?;
        let hidden = Arc::new(Mutex::new(Hidden::of(secrets.to_vec())));
        let room = Arc::new(Mutex::new(Room::new(limit, base)));
        Ok(Self { file: Arc::new(file), base, hidden, length: watch::Sender::new(0), room })
    }

    /// What knows the job's secrets.
    pub(crate) fn masker(&self) -> Masker {
        self.hidden.lock().unwrap_or_else(PoisonError::into_inner).masker.clone()
    }

    /// Hides this as well, from now on and in every stream.
    pub(crate) fn hide_also(&self, secrets: impl IntoIterator<Item = NamedSecret>) {
        let mut hidden = self.hidden.lock().unwrap_or_else(PoisonError::into_inner);
        let mut all = std::mem::take(&mut hidden.secrets);
        all.extend(secrets);
        *hidden = Hidden::of(all);
    }

    /// How long the log is, in bytes, with what was there before.
    pub(crate) fn length(&self) -> u64 {
        self.base + *self.length.borrow()
    }

    /// Adds a line of the runner's own.
    pub(crate) fn say(&self, line: &str) {
        self.write(format!("{}\n", self.hide(line)).as_bytes());
    }

    /// A text with every secret hidden.
    pub(crate) fn hide(&self, text: &str) -> String {
        self.masker().whole(text)
    }

    fn room(&self) -> MutexGuard<'_, Room> {
        self.room.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Adds what a job says, as far as there is room.
    fn append(&self, bytes: &[u8]) {
        let mut room = self.room();
        self.write(&room.admit(bytes));
    }

    /// Adds the end of what there was no room for.
    fn append_end(&self) {
        let mut room = self.room();
        self.write(&room.end());
    }

    fn write(&self, bytes: &[u8]) {
        // A full disk must not end the job; the server then has a shorter log than there was.
        if !bytes.is_empty() && (&*self.file).write_all(bytes).is_ok() {
            self.length.send_modify(|length| *length += bytes.len() as u64);
        }
    }

    /// Something for a step to write to.
    pub(crate) fn piece(&self) -> std::io::Result<Piece> {
        let (reader, writer) = std::io::pipe()?;
        let log = self.clone();
        let own = self.clone();
        Ok(Piece { writer: writer.into(), reader: std::thread::spawn(move || log.collect(reader)), log: own })
    }

    /// Something for a service of the job to write to; each of its lines begins with its name.
    pub(crate) fn piece_of(&self, name: &str) -> std::io::Result<Piece> {
        let (reader, writer) = std::io::pipe()?;
        let (log, lead) = (self.clone(), format!("{name}> "));
        let reader = std::thread::spawn(move || log.collect_lines(reader, &lead));
        Ok(Piece { writer: writer.into(), reader, log: self.clone() })
    }

    fn collect(&self, reader: PipeReader) {
        self.read_masked(reader, |bytes| self.append(bytes));
    }

    /// Whole lines only: others write between them.
    fn collect_lines(&self, reader: PipeReader, lead: &str) {
        let mut held = Vec::new();
        self.read_masked(reader, |bytes| {
            held.extend_from_slice(bytes);
            while let Some(end) =
                held.iter().position(|byte| *byte == b'\n').or((held.len() > LONGEST_LINE).then_some(LONGEST_LINE))
            {
                let rest = held.split_off(end);
                self.append(&[lead.as_bytes(), &held, b"\n"].concat());
                held = rest.strip_prefix(b"\n").map_or_else(|| rest.clone(), <[u8]>::to_vec);
            }
        });
        if !held.is_empty() {
            self.append(&[lead.as_bytes(), &held, b"\n"].concat());
        }
    }

    /// Reads to the end, with every secret hidden.
    fn read_masked(&self, mut reader: PipeReader, mut take: impl FnMut(&[u8])) {
        let mut buffer = vec![0; 64 * 1024];
        let mut masker = self.masker();
        while let Ok(count) = reader.read(&mut buffer) {
            if count == 0 {
                break;
            }
            let known = self.masker();
            if !masker.is_as(&known) {
                take(&masker.go_on_as(&known));
            }
            take(&masker.push(&buffer[..count]));
        }
        take(&masker.finish());
    }

    /// Delivers the log as it grows, until it is delivered whole after `ended`, or the server says
    /// that this job is no longer ours.
    pub(crate) async fn deliver(
        &self,
        client: &RunnerClient,
        contact: &Contact,
        assignment: &Assignment,
        mut ended: watch::Receiver<bool>,
    ) {
        let mut length = self.length.subscribe();
        let mut sent = 0;
        loop {
            let there = *length.borrow_and_update();
            if sent == there {
                if *ended.borrow() {
                    return;
                }
                tokio::select! {
                    _ = length.changed() => {}
                    _ = ended.changed() => {}
                }
                continue;
            }
            let count = usize::try_from(there - sent).unwrap_or(CHUNK).min(CHUNK);
            let mut bytes = vec![0; count];
            if self.file.read_exact_at(&mut bytes, sent).is_err() {
                return;
            }
            let append = || client.append_log(assignment, self.base + sent, bytes.clone());
            match contact.ask(|| true, append).await {
                Ok(length) => sent = length.saturating_sub(self.base).min(there),
                Err(error) => {
                    warn!(job = %assignment.job, %error, "the server takes no more of a log");
                    return;
                }
            }
        }
    }
}

impl Piece {
    /// Another descriptor to write with.
    pub(crate) fn writer(&self) -> std::io::Result<OwnedFd> {
        self.writer.try_clone()
    }

    /// Waits until everything written is in the log. Every other writer must be gone.
    pub(crate) fn finish(self) {
        drop(self.writer);
        let _ = self.reader.join();
        self.log.append_end();
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn what_fits_is_kept_as_it_is() {
        let mut room = Room::new(10, 4);
        assert_eq!(room.admit(b"abc"), b"abc");
        assert_eq!(room.admit(b"def"), b"def");
        assert_eq!(room.end(), b"");
        assert_eq!(Room::new(10, 12).left, 0, "one that was too long before");
    }

    #[test]
    fn of_what_is_too_long_the_beginning_is_kept_and_the_end_of_each_step() {
        let mut room = Room::new(8, 0);
        let words = "\n(here the log has reached 8B, the most that is kept of a job; of what follows, the end of each step is)\n";
        assert_eq!(String::from_utf8(room.admit(b"one\ntwo\nthree\n")).unwrap(), format!("one\ntwo\n{words}"));
        assert_eq!(room.admit(b"four\n"), b"");
        assert_eq!(room.end(), b"three\nfour\n", "nothing was lost of it");
        assert_eq!(room.admit(b"five\n"), b"", "it is told once");
        assert_eq!(room.end(), b"five\n");
        room.admit(&vec![b'x'; 3 * END_KEPT]);
        room.admit(b"\nlast\n");
        let end = String::from_utf8(room.end()).unwrap();
        assert_eq!(end, format!("({} are left out here)\nlast\n", Size::from_bytes(3 * END_KEPT as u64 + 1)));
        assert_eq!(room.end(), b"");
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        fn nothing_is_lost_that_is_not_told_and_no_more_is_held_than_is_kept(
            pieces in prop::collection::vec(prop::collection::vec(any::<u8>(), 0..90_000), 0..8), limit in 0u64..100_000,
        ) {
            let mut room = Room::new(limit, 0);
            let mut all = 0u64;
            for piece in &pieces {
                all += piece.len() as u64;
                room.admit(piece);
                prop_assert!(room.end.len() <= END_KEPT);
                prop_assert_eq!(all.min(limit) + room.end.len() as u64 + room.lost, all);
            }
            let said: Vec<u8> = pieces.concat();
            let held: Vec<u8> = room.end.iter().copied().collect();
            prop_assert!(said.ends_with(&held));
        }
    }
}
