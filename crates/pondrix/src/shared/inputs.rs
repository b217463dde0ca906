//! `--input`, which several commands have.

use std::collections::BTreeMap;
use std::str::FromStr;

use clap::Args;

/// The values of a pipeline's inputs.
#[derive(Clone, Debug, Default, Args)]
pub(crate) struct Inputs {
    /// The value of an input of the pipeline; may be given several times.
    #[arg(long = "input", value_name = "NAME=VALUE")]
    pairs: Vec<Pair>,
}

#[derive(Clone, Debug)]
struct Pair {
    name: String,
    value: String,
}

#[derive(Clone, Copy, Debug, thiserror::Error)]
#[error("write NAME=VALUE")]
struct NotAPair;

impl FromStr for Pair {
    type Err = NotAPair;

    fn from_str(text: &str) -> Result<Self, NotAPair> {
        let (name, value) = text.split_once('=').ok_or(NotAPair)?;
        Ok(Self { name: name.to_owned(), value: value.to_owned() })
    }
}

impl Inputs {
    /// By name. Of a name that was said twice, the last counts.
    pub(crate) fn values(&self) -> BTreeMap<String, String> {
        self.pairs.iter().map(|pair| (pair.name.clone(), pair.value.clone())).collect()
    }
}
