//! The seal of a receipt: by it anybody can tell, with common tools, whether it is as it was written.

use std::fmt::Write;

use serde_json::Value;
use sha2::{Digest, Sha256};

/// The field that holds it.
const SEAL: &str = "seal";

/// SHA-256, in hexadecimal digits, of the receipt without its seal as JSON in its shortest spelling: names
/// sorted, no white space, letters as they are. `None` where the text is no JSON object.
pub fn seal(receipt: &str) -> Option<String> {
    let Value::Object(mut fields) = serde_json::from_str(receipt).ok()? else { return None };
    fields.remove(SEAL);
    let mut receipt = Value::Object(fields);
    // Another part of the program may ask the reader of JSON to keep the order.
    receipt.sort_all_objects();
    Some(sha256(receipt.to_string().as_bytes()))
}

/// Whether a receipt carries the seal that it must have.
pub fn is_whole(receipt: &str) -> bool {
    let told = serde_json::from_str::<Value>(receipt).ok();
    let told = told.as_ref().and_then(|value| value.get(SEAL)).and_then(Value::as_str);
    told.is_some() && told == seal(receipt).as_deref()
}

/// SHA-256 in hexadecimal digits.
pub fn sha256(bytes: &[u8]) -> String {
    Sha256::digest(bytes).iter().fold(String::new(), |mut text, byte| {
        let _ = write!(text, "{byte:02x}");
        text
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_seal_is_that_of_common_tools() {
        // printf '{"a":"ä","b":[1,2]}' | sha256sum
        let wanted = sha256("{\"a\":\"ä\",\"b\":[1,2]}".as_bytes());
        assert_eq!(seal("{ \"b\": [1, 2],\n \"seal\": \"x\", \"a\": \"ä\" }"), Some(wanted));
        assert_eq!(sha256(b"abc"), "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
        assert_eq!(seal("[]"), None);
    }

    proptest! {
        #[test]
        fn no_changed_letter_goes_unseen(at in 0usize..60, byte in 32u8..127) {
            let plain = "{\"clean\":\"yes\",\"left\":[],\"machine\":\"WEIGH-03\",\"seal\":\"\"}";
            let good = plain.replace("\"seal\":\"\"", &format!("\"seal\":\"{}\"", seal(plain).unwrap()));
            prop_assert!(is_whole(&good));
            let mut bad = good.clone().into_bytes();
            if bad[at] != byte {
                bad[at] = byte;
                let bad = String::from_utf8(bad).unwrap();
                let same = serde_json::from_str::<Value>(&bad).ok() == serde_json::from_str::<Value>(&good).ok();
                prop_assert!(same || !is_whole(&bad));
            }
        }
    }
}
