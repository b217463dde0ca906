//! Names as segments of addresses.

use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};

/// Everything but the unreserved characters (RFC 3986, section 2.3).
const RESERVED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// A name as one segment of an address, whatever is in it.
pub(super) fn segment(name: &str) -> String {
    match name {
        // These two stand for other addresses, encoded or not. Nothing has such a name, and it is found nowhere.
        "." | ".." => name.replace('.', "%252E"),
        _ => utf8_percent_encode(name, RESERVED).to_string(),
    }
}

/// The key of a job, `STAGE/JOB`, as one segment.
pub(super) fn job_segment(job: &str) -> String {
    segment(&job.replace('/', "~"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_name_leads_to_another_address() {
        for name in ["a/b", "..", ".", "a?b=c", "a#b", "../../users", "%2e%2e", "a b", "\u{fc}", "a\\b", "\r\n"] {
            let address = reqwest::Url::parse(&format!("http://pond.test/api/v1/users/{}", segment(name))).unwrap();
            let parts: Vec<_> = address.path_segments().unwrap().collect();
            assert_eq!((parts.len(), &parts[..3]), (4, &["api", "v1", "users"][..]), "{name}: {address}");
            assert_eq!((address.query(), address.fragment()), (None, None), "{name}");
        }
        assert_eq!(
            (segment("visitor-desk.v2_a~"), job_segment("verify/unit").as_str()),
            ("visitor-desk.v2_a~".to_owned(), "verify~unit")
        );
    }
}
