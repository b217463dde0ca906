//! `--ask`, which several commands have.

use std::collections::BTreeMap;

use clap::Args;

/// What is said to the `ask`s of a pipeline.
#[derive(Clone, Debug, Default, Args)]
pub(crate) struct Inputs {
    /// Say something that the pipeline asks for; may be said several times.
    #[arg(long = "ask", value_name = "NAME=VALUE", value_parser = pair)]
    pairs: Vec<(String, String)>,
}

fn pair(text: &str) -> Result<(String, String), String> {
    let (name, value) = text.split_once('=').ok_or("write NAME=VALUE")?;
    Ok((name.to_owned(), value.to_owned()))
}

impl Inputs {
    /// By name. Of a name that was said twice, the last counts.
    pub(crate) fn said(&self) -> BTreeMap<String, String> {
        self.pairs.iter().cloned().collect()
    }
}
