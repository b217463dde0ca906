//! What several commands share. Nothing here knows of any of them.

pub(crate) mod follow;
pub(crate) mod inputs;
pub(crate) mod machine;
pub(crate) mod machine_check;
pub(crate) mod pipeline_file;
pub(crate) mod removed;
pub(crate) mod run_name;
pub(crate) mod run_view;
pub(crate) mod scope;
pub(crate) mod streams;
pub(crate) mod token_file;
