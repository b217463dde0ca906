//! The sample repositories, built into the program.

/// A file of a sample: its path and its text.
pub type SampleFile = (&'static str, &'static str);

macro_rules! sample {
    ($name:literal: $($path:literal),* $(,)?) => {
        &[$(($path, include_str!(concat!("../../../../demo/", $name, "/", $path)))),*]
    };
}

/// The base image all others build on, without the program in it, and a template for pipelines.
pub const GLASSHOUSE_BASE: &[SampleFile] = sample!("glasshouse-base":
    "pondrix.kdl", "image.recipe", "web.recipe", "etc/passwd", "etc/group", "templates/printed.kdl",
);

/// Opening hours and a greeting.
pub const VISITOR_DESK: &[SampleFile] = sample!("visitor-desk":
    "README.md", "pondrix.kdl", "image.recipe", "test.sh", "desk/greeting.txt", "desk/hours.txt", "desk/page.html",
    "desk/render.sh", "deploy/desk.yaml",
);

/// The label pages beside the beds.
pub const PLANT_LABELS: &[SampleFile] = sample!("plant-labels":
    "pondrix.kdl", "labels.txt", "print.sh", "image.recipe", "image.recipe.ignore", "deploy/labels.yaml",
);
