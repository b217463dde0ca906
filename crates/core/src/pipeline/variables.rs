//! The names that a template in a pipeline file may use.

/// Every name and what it stands for. The flag says whether it differs from run to run of one
/// branch, which a tag that is pushed once must contain.
pub const VARIABLES: [(&str, bool, &str); 6] = [
    ("commit", true, "the commit's full id"),
    ("commit.short", true, "the first twelve digits of the commit's id"),
    ("branch", false, "the branch, with letters a tag cannot have replaced by `-`"),
    ("tag", true, "the repository's tag that started the run"),
    ("project", false, "the project's name"),
    ("run", true, "the run's number"),
];

/// What stands in front of the names of a matrix.
pub const MATRIX: &str = "matrix.";
/// What stands in front of the names of what a start was asked for.
pub const INPUT: &str = "input.";
/// What stands in front of the names of outputs: `job.JOB.OUTPUT`.
pub const JOB: &str = "job.";
/// What stands in front of a pattern of paths, in keys of caches only: a hash of the files' names and
/// contents.
pub const HASH: &str = "hash ";
