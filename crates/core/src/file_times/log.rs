//! Reading which commits changed which files, as git lists them.

/// What a commit's line begins and ends with. No name of a file begins so that anybody wants.
const MARK: u8 = 1;

/// What `git log --name-only -z --format=%x01%ct%x01` writes, read as it comes: of each commit its time, in seconds since
/// 1970, between two marks; then the paths of the files that it changed. Each of these ends with a zero byte.
#[derive(Clone, Debug, Default)]
pub struct Log {
    /// The beginning of what has not come whole.
    rest: Vec<u8>,
    time: u64,
}

impl Log {
    /// What `git log` is to write.
    pub const FORMAT: &str = "--format=%x01%ct%x01";

    /// Reads on, and tells of each file which commit's time changed it.
    pub fn push(&mut self, bytes: &[u8], mut tell: impl FnMut(&[u8], u64)) {
        let mut rest = std::mem::take(&mut self.rest);
        let mut parts = bytes.split(|byte| *byte == 0);
        rest.extend(parts.next().unwrap_or_default());
        for next in parts {
            self.word(&rest, &mut tell);
            rest.clear();
            rest.extend(next);
        }
        self.rest = rest;
    }

    fn word(&mut self, word: &[u8], tell: &mut impl FnMut(&[u8], u64)) {
        let marked = word.strip_prefix(&[MARK]).and_then(|word| word.strip_suffix(&[MARK]));
        if let Some(time) = marked.and_then(|time| std::str::from_utf8(time).ok()?.parse::<i64>().ok()) {
            self.time = u64::try_from(time).unwrap_or(0);
            return;
        }
        // Between a commit's line and its first file is an end of line.
        let path = word.strip_prefix(b"\n").unwrap_or(word);
        if !path.is_empty() {
            tell(path, self.time);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_are_told_with_the_time_of_their_commit_wherever_what_git_writes_is_cut() {
        let bytes = b"\x014000\x01\0\x013000\x01\0\0\ns\0\x012000\x01\0\na\0\x01-5\x01\0\na\0b c\0";
        let expected = [("s", 3000), ("a", 2000), ("a", 0), ("b c", 0)];
        for cut in 0..bytes.len() {
            let (mut log, mut told) = (Log::default(), Vec::new());
            for part in [&bytes[..cut], &bytes[cut..]] {
                log.push(part, |path, time| told.push((String::from_utf8_lossy(path).into_owned(), time)));
            }
            let told: Vec<_> = told.iter().map(|(path, time)| (path.as_str(), *time)).collect();
            assert_eq!(told, expected, "cut at {cut}");
        }
    }
}
