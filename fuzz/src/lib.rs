//! What the targets share.

/// A small self-relative security descriptor.
pub const DESCRIPTOR: &[u8] = &[1, 0, 4, 0x80, 0x14, 0, 0, 0, 0x24, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0];

/// The bytes with the checksum that they would need: a fuzzer does not find it by chance.
pub fn with_checksum(bytes: &[u8]) -> Vec<u8> {
    let mut bytes = bytes.to_vec();
    if bytes.len() >= 512 {
        let words = bytes[..508].chunks_exact(4);
        let sum = words.fold(0, |sum, word| sum ^ u32::from_le_bytes(word.try_into().expect("four bytes")));
        let sum = match sum {
            0 => 1,
            u32::MAX => u32::MAX - 1,
            other => other,
        };
        bytes[508..512].copy_from_slice(&sum.to_le_bytes());
    }
    bytes
}

/// Two pieces, the first as long as the number at the head says.
pub fn divided(bytes: &[u8]) -> Option<(&[u8], &[u8])> {
    let (len, rest) = bytes.split_first_chunk::<4>()?;
    rest.split_at_checked(u32::from_le_bytes(*len) as usize)
}

/// Two pieces as one.
pub fn joined(first: &[u8], second: &[u8]) -> Vec<u8> {
    [&(first.len() as u32).to_le_bytes(), first, second].concat()
}
