//! What stays outside when a project or an environment is removed, and the commands that remove it there.

use pondrix_api::{ImageOutside, ReleaseOutside};

use crate::output;

/// A word as a shell takes it for one.
fn quoted(word: &str) -> String {
    let is_plain = |letter: char| letter.is_ascii_alphanumeric() || "-_./:@=%+,".contains(letter);
    if !word.is_empty() && word.chars().all(is_plain) {
        return word.to_owned();
    }
    format!("'{}'", word.replace('\'', "'\\''"))
}

/// Images that are still in their registries.
pub(crate) fn images(images: &[ImageOutside]) {
    if images.is_empty() {
        return;
    }
    output::line("Its images stay in their registries:");
    for one in images {
        let count = match one.digests.len() {
            1 => "1 image".to_owned(),
            count => format!("{count} images"),
        };
        output::line(&format!("  {} ({count})", output::strong(&one.repository)));
    }
    // All of them, however many: nothing here knows them any more.
    output::line("These remove them there, if the registry allows that and nothing else uses them:");
    for one in images {
        let path = one.repository.split_once('/').map_or("", |(_, path)| path);
        for digest in &one.digests {
            let url = format!("{}/v2/{path}/manifests/{digest}", one.address);
            output::line(&format!("  curl -X DELETE {}", quoted(&url)));
        }
    }
}

/// What goes on running in clusters.
pub(crate) fn releases(releases: &[ReleaseOutside]) {
    if releases.is_empty() {
        return;
    }
    output::line("These go on running:");
    for one in releases {
        let (environment, image) = (output::strong(&one.environment), output::plain(&one.image));
        output::line(&format!("  {environment}, namespace {}: {image}, by {}", one.namespace, one.job));
    }
    output::line("These remove them there, in a copy of the repository:");
    for one in releases {
        let server = one.cluster.as_ref().map(|server| format!(" --server {}", quoted(server)));
        let kubectl = format!("kubectl{} --namespace {} delete", server.unwrap_or_default(), quoted(&one.namespace));
        for file in &one.manifests {
            output::line(&match is_pattern(file) {
                // The shell reads the pattern, and each file has its own `-f`.
                true => format!("  for file in {file}; do {kubectl} -f \"$file\"; done"),
                false => format!("  {kubectl} -f {}", quoted(file)),
            });
        }
    }
}

/// Whether the manifests of a rollout are named by a pattern that a shell reads as it is.
fn is_pattern(file: &str) -> bool {
    file.contains('*') && file.chars().all(|letter| letter.is_ascii_alphanumeric() || "-_./*?".contains(letter))
}
