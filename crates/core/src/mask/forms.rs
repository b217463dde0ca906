//! The forms in which programs print a value.

use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD_NO_PAD, URL_SAFE_NO_PAD};

/// The value itself without the white space around it, each of its lines, and both as programs encode and quote them: in
/// base64 (RFC 4648, sections 4 and 5) wherever it begins in what is encoded, in hexadecimal, in addresses (RFC 3986,
/// section 2.1, and as HTML forms have it), in JSON (RFC 8259, section 7), and in the words of a shell.
pub(super) fn of(value: &[u8]) -> Vec<Form> {
    let trimmed = value.trim_ascii();
    let mut values = vec![(trimmed, trimmed.len() >= TELLING_WHOLE)];
    let lines = trimmed.split(|byte| *byte == b'\n').map(<[u8]>::trim_ascii);
    values.extend(lines.map(|line| (line, is_telling(line))));
    values.retain(|(value, _)| value.len() >= super::SHORTEST);
    values.dedup_by(|one, other| one.0 == other.0);
    let mut forms: Vec<Form> = values.iter().map(|(value, telling)| (value.to_vec(), *telling)).collect();
    // Programs encode both the value as it is and the value with a line's end.
    forms.extend(base64(value).into_iter().map(|form| (form, trimmed.len() >= TELLING_WHOLE)));
    for (value, telling) in values {
        let encoded = [base64(value), hexadecimal(value).into(), addresses(value), shell(value)].concat();
        let encoded = encoded.into_iter().chain(std::str::from_utf8(value).ok().into_iter().flat_map(json));
        forms.extend(encoded.map(|form| (form, telling)));
    }
    forms
}

/// A form, and whether whoever has it has the secret: a line of it may be one that others have as well.
pub(super) type Form = (Vec<u8>, bool);

/// The shortest value that is looked for in files: what is shorter stands in too many by chance.
const TELLING_WHOLE: usize = 8;
/// The shortest line that tells something by itself.
const TELLING: usize = 16;

/// Whether a line of a value is likely in no other: not what stands around keys (RFC 7468), nor words of a document.
fn is_telling(line: &[u8]) -> bool {
    line.len() >= TELLING
        && !line.starts_with(b"-----")
        && line.iter().all(u8::is_ascii_graphic)
        && !line.contains(&b'"')
}

/// Of a whole, and of a part of something: three bytes become four letters, and those at either end may say something of
/// what stands beside the value, too.
fn base64(value: &[u8]) -> Vec<Vec<u8>> {
    let mut forms = Vec::new();
    for alphabet in [STANDARD_NO_PAD, URL_SAFE_NO_PAD] {
        forms.push(alphabet.encode(value).into_bytes());
        for (before, unsure) in [(0, 0), (1, 2), (2, 3)] {
            let bytes = [vec![0; before], value.to_vec()].concat();
            let letters = alphabet.encode(&bytes).into_bytes();
            forms.push(letters[unsure..bytes.len() * 8 / 6].to_vec());
        }
    }
    forms
}

fn hexadecimal(value: &[u8]) -> [Vec<u8>; 2] {
    let lower: String = value.iter().map(|byte| format!("{byte:02x}")).collect();
    [lower.to_uppercase().into_bytes(), lower.into_bytes()]
}

fn addresses(value: &[u8]) -> Vec<Vec<u8>> {
    let is_plain = |byte: u8| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'.' | b'_' | b'~');
    let escaped = |space: &str, upper: bool, spared: &[u8]| -> Vec<u8> {
        let letter = |byte: &u8| match *byte {
            b' ' => space.to_owned(),
            byte if is_plain(byte) || spared.contains(&byte) => char::from(byte).to_string(),
            byte if upper => format!("%{byte:02X}"),
            byte => format!("%{byte:02x}"),
        };
        value.iter().map(letter).collect::<String>().into_bytes()
    };
    let mut forms = Vec::new();
    for upper in [true, false] {
        for space in ["%20", "+"] {
            // Some leave what has no meaning in their part of an address.
            forms.extend([b"".as_slice(), b"/", b"!*'()"].map(|spared| escaped(space, upper, spared)));
        }
    }
    forms
}

fn json(value: &str) -> Vec<Vec<u8>> {
    let Ok(quoted) = serde_json::to_string(value) else { return Vec::new() };
    let inner = quoted[1..quoted.len() - 1].to_owned();
    let of_ascii: String = inner
        .chars()
        .map(|letter| match letter {
            letter if letter.is_ascii() => letter.to_string(),
            letter => letter.encode_utf16(&mut [0; 2]).iter().map(|unit| format!("\\u{unit:04x}")).collect(),
        })
        .collect();
    let slashes = inner.replace('/', "\\/");
    [inner, of_ascii, slashes].map(String::into_bytes).into()
}

fn shell(value: &[u8]) -> Vec<Vec<u8>> {
    let replaced = |byte: u8, with: &[u8]| -> Vec<u8> {
        let letter = |found: &u8| if *found == byte { with.to_vec() } else { vec![*found] };
        value.iter().flat_map(letter).collect()
    };
    let escaped = |of: &dyn Fn(u8) -> bool| -> Vec<u8> {
        value.iter().flat_map(|byte| if of(*byte) { vec![b'\\', *byte] } else { vec![*byte] }).collect()
    };
    vec![
        replaced(b'\'', b"'\\''"),
        replaced(b'\'', b"'\"'\"'"),
        escaped(&|byte| matches!(byte, b'"' | b'\\' | b'$' | b'`')),
        escaped(&|byte| byte.is_ascii_punctuation() && !b"-_./+:,@%^=".contains(&byte) || byte == b' '),
        escaped(&|byte| matches!(byte, b'\'' | b'\\')),
    ]
}
