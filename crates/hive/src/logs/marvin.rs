//! The hash over log entries: Marvin32, as published with .NET's runtime, with the seed that the
//! registry's documentation names.

const SEED: u64 = 0x82EF_4D88_7A4E_55C5;

/// The 64-bit hash of a log entry's bytes.
pub(super) fn hash(bytes: &[u8]) -> u64 {
    with_seed(SEED, bytes)
}

fn with_seed(seed: u64, bytes: &[u8]) -> u64 {
    let mut state = (seed as u32, (seed >> 32) as u32);
    let words = bytes.chunks_exact(4);
    let rest = words.remainder();
    for word in words {
        mix(&mut state, u32::from_le_bytes(word.try_into().expect("four bytes")));
    }
    let mut last = [0u8; 4];
    last[..rest.len()].copy_from_slice(rest);
    last[rest.len()] = 0x80;
    mix(&mut state, u32::from_le_bytes(last));
    mix(&mut state, 0);
    u64::from(state.0) | u64::from(state.1) << 32
}

fn mix((low, high): &mut (u32, u32), word: u32) {
    *low = low.wrapping_add(word);
    *high ^= *low;
    *low = low.rotate_left(20).wrapping_add(*high);
    *high = high.rotate_left(9) ^ *low;
    *low = low.rotate_left(27).wrapping_add(*high);
    *high = high.rotate_left(19);
}

#[cfg(test)]
mod tests {
    /// Published test values of the hash.
    #[test]
    fn the_published_values_come_out() {
        let seed = 0x004F_B61A_001B_DBCC;
        assert_eq!(super::with_seed(seed, &[]), 0x30ED_35C1_00CD_3C7D);
        assert_eq!(super::with_seed(seed, &[0xAF]), 0x48E7_3FC7_7D75_DDC1);
        assert_eq!(super::with_seed(seed, &[0xE7, 0x0F]), 0xB5F6_E1FC_485D_BFF8);
        assert_eq!(super::with_seed(seed, &[0x37, 0xF4, 0x95]), 0xF0B0_7C78_9B8C_F7E8);
        assert_eq!(super::with_seed(seed, &[0x86, 0x42, 0xDC, 0x59]), 0x7008_F2E8_7E9C_F556);
        let all: Vec<u8> = (0..=255).collect();
        assert_eq!(super::with_seed(seed, &all), 0x7DFC_AB33_FCEA_D72C);
    }
}
