//! A software bill of materials (SBOM): SPDX 2.3, as JSON.

use serde_json::{Value, json};

use super::{Digest, Package, Repository};
use crate::Time;

/// The media type under which such a document is attached to an image.
pub const SPDX: &str = "application/spdx+json";

/// The SBOM of an image. The same packages at the same moment give the same document.
#[must_use]
pub fn spdx(repository: &Repository, digest: &Digest, packages: &[Package], moment: Time) -> Value {
    let image = json!({
        "SPDXID": "SPDXRef-image",
        "name": repository.to_string(),
        "versionInfo": digest.to_string(),
        "downloadLocation": "NOASSERTION",
        "filesAnalyzed": false,
        "primaryPackagePurpose": "CONTAINER",
        "checksums": [{ "algorithm": "SHA256", "checksumValue": digest.hex() }],
        "externalRefs": [{
            "referenceCategory": "PACKAGE-MANAGER",
            "referenceType": "purl",
            "referenceLocator": oci_purl(repository, digest),
        }],
    });
    let id = |number: usize| format!("SPDXRef-package-{number}");
    let package = |(number, package): (usize, &Package)| {
        json!({
            "SPDXID": id(number),
            "name": package.name,
            "versionInfo": package.version,
            "downloadLocation": "NOASSERTION",
            "filesAnalyzed": false,
            "licenseDeclared": "NOASSERTION",
            "licenseComments": package.license.as_deref().unwrap_or("NOASSERTION"),
            "externalRefs": [{
                "referenceCategory": "PACKAGE-MANAGER",
                "referenceType": "purl",
                "referenceLocator": purl(package),
            }],
        })
    };
    let contains = |number: usize| json!({ "spdxElementId": "SPDXRef-image", "relationshipType": "CONTAINS", "relatedSpdxElement": id(number) });
    let describes = json!({ "spdxElementId": "SPDXRef-DOCUMENT", "relationshipType": "DESCRIBES", "relatedSpdxElement": "SPDXRef-image" });
    json!({
        "spdxVersion": "SPDX-2.3",
        "dataLicense": "CC0-1.0",
        "SPDXID": "SPDXRef-DOCUMENT",
        "name": repository.to_string(),
        // SPDX 2.3, 6.5: unique, and of no need to be reachable.
        "documentNamespace": format!("https://{repository}/spdx/{}", digest.hex()),
        "creationInfo": {
            "created": seconds(moment),
            "creators": [concat!("Tool: pondrix-", env!("CARGO_PKG_VERSION"))],
        },
        "packages": std::iter::once(image).chain(packages.iter().enumerate().map(package)).collect::<Vec<_>>(),
        "relationships": std::iter::once(describes).chain((0..packages.len()).map(contains)).collect::<Vec<_>>(),
    })
}

/// SPDX 2.3, 6.9: moments are told in whole seconds.
fn seconds(moment: Time) -> String {
    let text = moment.to_string();
    let whole = text.split('.').next().unwrap_or(&text).trim_end_matches('Z').to_owned();
    whole + "Z"
}

/// Letters that stand for themselves in a package URL; all others are written as %XX.
fn encoded(text: &str) -> String {
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || matches!(byte, b'.' | b'-' | b'_' | b'~' | b':');
    text.bytes().map(|byte| if plain(byte) { char::from(byte).to_string() } else { format!("%{byte:02X}") }).collect()
}

/// The package URL of a package (the purl specification, "Rules for each purl component").
fn purl(package: &Package) -> String {
    let kind = package.kind.purl();
    let name = match package.name.strip_prefix('@').and_then(|name| name.split_once('/')) {
        Some((scope, name)) => format!("%40{}/{}", encoded(scope), encoded(name)),
        None => encoded(&package.name),
    };
    format!("pkg:{kind}/{name}@{}", encoded(&package.version))
}

fn oci_purl(repository: &Repository, digest: &Digest) -> String {
    let name = repository.path().rsplit('/').next().unwrap_or_default();
    format!("pkg:oci/{name}@{}?repository_url={}", encoded(&digest.to_string()), encoded(&repository.to_string()))
}

#[cfg(test)]
mod tests {
    use super::super::PackageKind;
    use super::*;

    #[test]
    fn a_bill_names_every_package_with_its_address_and_is_the_same_again() {
        let packages = [
            Package { license: Some("MIT".to_owned()), ..Package::new(PackageKind::Npm, "@garden/lily", "1.0.0+a") },
            Package::new(PackageKind::Debian, "libstdc++6", "12.2.0-14"),
        ];
        let repository = "registry.fernhollow.test/garden/desk".parse().unwrap();
        let digest = Digest::from_bytes(&[7; 32]);
        let bill = || spdx(&repository, &digest, &packages, Time::from_millis(1_790_000_000_123));
        let document = bill();
        assert_eq!(document, bill());
        assert_eq!(document["creationInfo"]["created"], "2026-09-21T14:13:20Z");
        let purl = |place: usize| document["packages"][place]["externalRefs"][0]["referenceLocator"].as_str().unwrap();
        assert!(purl(0).starts_with("pkg:oci/desk@sha256:0707"), "{}", purl(0));
        assert_eq!((purl(1), purl(2)), ("pkg:npm/%40garden/lily@1.0.0%2Ba", "pkg:deb/libstdc%2B%2B6@12.2.0-14"));
        assert_eq!(document["relationships"].as_array().unwrap().len(), 3);
    }
}
