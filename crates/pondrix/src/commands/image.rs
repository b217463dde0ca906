//! `pondrix image`

use std::collections::{BTreeMap, BTreeSet};
use std::process::ExitCode;

use clap::{Args, Subcommand};
use pondrix_api::{BaseFacts, ChainLink, ImageDetail, ImageDifference, ImageSummary};
use pondrix_core::image::FileChange;

use crate::cli::Global;
use crate::failure::Outcome;
use crate::{output, settings};

/// How many packages, and files, are shown where all are not asked for.
const SHOWN: usize = 20;

/// Images that runs pushed: what is in them, what they are built on, what runs them.
#[derive(Debug, Subcommand)]
pub(crate) enum Image {
    List(List),
    Show(Show),
    Diff(Diff),
    Chain(Chain),
}

/// List images, the newest first.
#[derive(Debug, Args)]
pub(crate) struct List {
    /// A repository, HOST/PATH or the end of it; all where none is named.
    repository: Option<String>,
    /// Of this project only.
    #[arg(long)]
    project: Option<String>,
}

/// Show an image: tags, base, layers with the instructions that made them, packages, what runs it.
#[derive(Debug, Args)]
pub(crate) struct Show {
    /// REPOSITORY, REPOSITORY:TAG or REPOSITORY@DIGEST; the end of the repository's name will do, and the beginning
    /// of a digest.
    name: String,
    /// Show every package.
    #[arg(long)]
    packages: bool,
}

/// Show how two images differ: in packages, and in files.
#[derive(Debug, Args)]
pub(crate) struct Diff {
    /// The first, as `show` takes it.
    one: String,
    /// The other.
    other: String,
    /// Show every file.
    #[arg(long)]
    all: bool,
}

/// Show what is built on what, and what is behind its base.
#[derive(Debug, Args)]
pub(crate) struct Chain {}

impl Image {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        let client = settings::client(global)?;
        match self {
            Self::List(List { repository, project }) => {
                let list = client.images(repository.as_deref(), project.as_deref()).await?;
                if global.json {
                    output::json(&list)?;
                } else if list.images.is_empty() {
                    output::line("No image was pushed yet. An image job pushes one: see docs/pipeline.md, `image`.");
                } else {
                    list_of(&list.images);
                }
            }
            Self::Show(show) => {
                let detail = client.image(&show.name).await?;
                if global.json {
                    output::json(&detail)?;
                } else {
                    shown(&detail, show.packages);
                }
            }
            Self::Diff(diff) => {
                let difference = client.image_difference(&diff.one, &diff.other).await?;
                if global.json {
                    output::json(&difference)?;
                } else {
                    differences(&difference, diff.all);
                }
            }
            Self::Chain(_) => {
                let chain = client.image_chain().await?;
                if global.json {
                    output::json(&chain)?;
                } else if chain.links.is_empty() {
                    output::line("No image was pushed yet, and nothing is built on another.");
                } else {
                    links(&chain.links);
                }
            }
        }
        Ok(ExitCode::SUCCESS)
    }
}

/// `sha256:` and the first twelve digits.
fn short(digest: &str) -> &str {
    digest.get(..19).unwrap_or(digest)
}

fn list_of(images: &[ImageSummary]) {
    let row = |image: &ImageSummary| {
        let behind = if image.base_now.is_some() { "behind" } else { "" };
        vec![
            output::plain(&image.repository),
            output::cut(&image.tags.join(" "), 28),
            short(&image.digest).to_owned(),
            output::ago(image.created),
            output::bytes(image.size),
            image.run.clone(),
            image.runs_in.join(" "),
            behind.to_owned(),
        ]
    };
    let rows: Vec<_> = images.iter().map(row).collect();
    output::table(&["REPOSITORY", "TAGS", "DIGEST", "MADE", "SIZE", "RUN", "RUNS IN", "BASE"], &rows);
}

fn shown(detail: &ImageDetail, all_packages: bool) {
    let ImageDetail { summary, layers, packages, labels, of_base, tags } = detail;
    output::line(&output::strong(&format!("{}@{}", summary.repository, summary.digest)));
    let none = |text: String| if text.is_empty() { "none".to_owned() } else { text };
    output::line(&format!("tags      {}", none(summary.tags.join(" "))));
    output::line(&format!("created   {} by {} {}", output::ago(summary.created), summary.run, summary.job));
    output::line(&format!("commit    {}", summary.commit));
    output::line(&format!("runs in   {}", none(summary.runs_in.join(" "))));
    match (&summary.base, &summary.base_digest) {
        (Some(base), Some(digest)) => {
            let made = of_base.as_ref().and_then(|of_base| of_base.created.as_deref());
            let made = made.map(|made| format!(", made {}", output::plain(made))).unwrap_or_default();
            output::line(&format!("base      {base} ({}){made}", short(digest)));
            if let Some(now) = &summary.base_now {
                let since = summary.behind_since.map(|since| format!(", since {}", output::ago(since)));
                output::line(&format!("behind    {base} is {} now{}", short(now), since.unwrap_or_default()));
            }
        }
        _ => output::line("base      none"),
    }
    output::line(&format!("size      {} in {} layers", output::bytes(summary.size), layers.len()));
    let row = |layer: &pondrix_api::LayerView| {
        let of = if layer.of_base { "base" } else { "" };
        let made_by = layer.made_by.lines().next().unwrap_or_default();
        vec![
            short(layer.digest.to_string().as_str()).to_owned(),
            output::bytes(layer.size),
            of.to_owned(),
            output::cut(&output::plain(made_by), 70),
        ]
    };
    output::line("");
    output::table(&["LAYER", "SIZE", "OF", "MADE BY"], &layers.iter().map(row).collect::<Vec<_>>());
    if !packages.is_empty() {
        output::line("");
        let most = if all_packages { packages.len() } else { SHOWN };
        let row = |package: &pondrix_core::image::Package| {
            let license = package.license.as_deref().map(output::plain).unwrap_or_default();
            vec![
                package.kind.to_string(),
                output::plain(&package.name),
                output::plain(&package.version),
                output::cut(&license, 40),
            ]
        };
        output::table(
            &["PACKAGE", "NAME", "VERSION", "LICENCE"],
            &packages.iter().take(most).map(row).collect::<Vec<_>>(),
        );
        if packages.len() > most {
            output::line(&output::faint(&format!("and {} more; --packages shows all", packages.len() - most)));
        }
    }
    if !tags.is_empty() {
        output::line("");
        let row = |change: &pondrix_api::TagChange| {
            vec![change.tag.clone(), short(&change.digest).to_owned(), output::ago(change.at), change.run.clone()]
        };
        output::table(&["TAG", "MEANT", "SINCE", "BY"], &tags.iter().take(SHOWN).map(row).collect::<Vec<_>>());
    }
    labels_shown(labels, of_base.as_ref());
}

/// What the image says of itself, and where its base says something else.
fn labels_shown(labels: &BTreeMap<String, String>, of_base: Option<&BaseFacts>) {
    let of_base = of_base.map(|of_base| of_base.labels.clone()).unwrap_or_default();
    let row = |key: &str, value: &str, of: &str| {
        vec![output::plain(key), output::cut(&output::plain(value), 90), of.to_owned()]
    };
    let mut rows = Vec::new();
    for key in labels.keys().chain(of_base.keys()).collect::<BTreeSet<_>>() {
        let (own, base) = (labels.get(key), of_base.get(key));
        rows.extend(own.map(|value| row(key, value, if own == base { "base" } else { "" })));
        rows.extend(base.filter(|_| own != base).map(|value| row(key, value, "base")));
    }
    if !rows.is_empty() {
        output::line("");
        output::table(&["LABEL", "VALUE", "OF"], &rows);
    }
}

fn differences(difference: &ImageDifference, all: bool) {
    output::line(&format!("from  {}", difference.one));
    output::line(&format!("to    {}", difference.other));
    if difference.packages.is_empty() && difference.files.is_empty() {
        output::line("The same packages, and the same files.");
        return;
    }
    let or_none =
        |versions: &[String]| if versions.is_empty() { "-".to_owned() } else { output::plain(&versions.join(" ")) };
    if !difference.packages.is_empty() {
        output::line("");
        let row = |change: &pondrix_core::image::PackageChange| {
            vec![change.kind.clone(), output::plain(&change.name), or_none(&change.before), or_none(&change.after)]
        };
        output::table(&["PACKAGE", "NAME", "FROM", "TO"], &difference.packages.iter().map(row).collect::<Vec<_>>());
    }
    output::line("");
    if difference.files.is_empty() {
        output::line("The same files.");
        return;
    }
    let most = if all { difference.files.len() } else { SHOWN };
    let size = |size: Option<u64>| size.map_or_else(|| "-".to_owned(), output::bytes);
    let row = |change: &FileChange| {
        let what = match (change.before, change.after) {
            (None, _) => "new".to_owned(),
            (_, None) => "gone".to_owned(),
            _ => change.differs.join(" "),
        };
        vec![format!("/{}", output::plain(&change.path)), what, size(change.before), size(change.after)]
    };
    output::table(&["FILE", "WHAT", "FROM", "TO"], &difference.files.iter().take(most).map(row).collect::<Vec<_>>());
    let more = difference.files.len().saturating_sub(most) as u64 + difference.more_files;
    if more > 0 {
        output::line(&output::faint(&format!("and {more} more files")));
    }
}

fn links(links: &[ChainLink]) {
    let row = |link: &ChainLink| {
        let lead = "  ".repeat(link.depth as usize);
        let since = link.behind_since.map(|since| format!(" since {}", output::ago(since))).unwrap_or_default();
        vec![
            format!("{lead}{}", output::plain(&link.repository)),
            format!("{}{since}", link.state),
            output::plain(link.base.as_deref().unwrap_or("-")),
            link.run.clone(),
            output::plain(&link.branch),
        ]
    };
    output::table(&["IMAGE", "IS", "BUILT ON", "BY", "BRANCH"], &links.iter().map(row).collect::<Vec<_>>());
}
