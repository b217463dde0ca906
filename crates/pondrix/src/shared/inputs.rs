//! `--input`, which several commands have.

use std::collections::BTreeMap;

use clap::Args;

/// The values of a pipeline's inputs.
#[derive(Clone, Debug, Default, Args)]
pub(crate) struct Inputs {
    /// The value of an input of the pipeline; may be given several times.
    #[arg(long = "input", value_name = "NAME=VALUE", value_parser = pair)]
    pairs: Vec<(String, String)>,
}

fn pair(text: &str) -> Result<(String, String), String> {
    let (name, value) = text.split_once('=').ok_or("write NAME=VALUE")?;
    Ok((name.to_owned(), value.to_owned()))
}

impl Inputs {
    /// By name. Of a name that was said twice, the last counts.
    pub(crate) fn values(&self) -> BTreeMap<String, String> {
        self.pairs.iter().cloned().collect()
    }
}
