//! Names of publishers and products, made of syllables.

use fastrand::Rng;

const FIRST: [&str; 18] = [
    "Quern", "Fennel", "Sieve", "Amble", "Thistle", "Larch", "Whin", "Burr", "Cinder", "Dunlin", "Elder", "Garth",
    "Hazel", "Kestrel", "Linden", "Mallow", "Nettle", "Orchard",
];
const SECOND: [&str; 14] = [
    "light", "gate", "well", "stone", "ford", "mere", "wick", "brook", "croft", "dale", "field", "holm", "moor",
    "ridge",
];
const TRADES: [&str; 8] =
    ["Instruments", "Systems", "Software", "Dairy Works", "Controls", "Data", "Labs", "Measuring"];
const FORMS: [&str; 12] =
    ["", "", "Ltd", "Ltd.", "Limited", "GmbH", "Inc.", "Corporation", "AG", "B.V.", "& Co. KG", "S.r.l."];
const NOUNS: [&str; 16] = [
    "Scale Desk",
    "Label Bridge",
    "Recipe Book",
    "Batch Clock",
    "Tank Watch",
    "Rind Ledger",
    "Curd Planner",
    "Shelf Counter",
    "Brine Monitor",
    "Vat Control",
    "Route Sheet",
    "Cold Store",
    "Cellar",
    "Whey Tracker",
    "Press",
    "Stock Viewer",
];
const SUFFIXES: [&str; 6] = [" Pro", " Viewer", " Server", " Plus", " Studio", " Link"];
const ELSEWHERE: [&str; 4] = ["Wägetisch", "チーズ計量", "Сыр Учёт", "Pesée Directe"];

fn pick<'a>(rng: &mut Rng, from: &[&'a str]) -> &'a str {
    from[rng.usize(..from.len())]
}

/// A brand, such as `Quernlight`.
pub fn brand(rng: &mut Rng) -> String {
    format!("{}{}", pick(rng, &FIRST), pick(rng, &SECOND))
}

/// A brand that looks like another one.
pub fn similar_brand(rng: &mut Rng, brand: &str) -> String {
    let first = FIRST.iter().find(|first| brand.starts_with(**first)).unwrap_or(&FIRST[0]);
    loop {
        let other = format!("{first}{}", pick(rng, &SECOND));
        if other != brand {
            return other;
        }
    }
}

/// A publisher's name without the form of its company.
pub fn publisher(rng: &mut Rng) -> String {
    format!("{} {}", brand(rng), pick(rng, &TRADES))
}

/// The form of a company, perhaps none.
pub fn form(rng: &mut Rng) -> &'static str {
    pick(rng, &FORMS)
}

/// What a product is, such as `Scale Desk`.
pub fn noun(rng: &mut Rng) -> String {
    if rng.u8(..) < 16 { pick(rng, &ELSEWHERE).to_owned() } else { pick(rng, &NOUNS).to_owned() }
}

/// What stands behind the name of a product that is derived from another one.
pub fn suffix(rng: &mut Rng) -> &'static str {
    pick(rng, &SUFFIXES)
}

/// A name as a person in a hurry types it.
pub fn carelessly(rng: &mut Rng, name: &str) -> String {
    match rng.u8(..3) {
        0 => name.to_lowercase(),
        1 => name.replace(' ', "  "),
        _ => name.to_owned(),
    }
}

/// An identifier as people write it.
pub fn guid(rng: &mut Rng) -> String {
    let mut hex =
        |len: usize| -> String { (0..len).map(|_| char::from(b"0123456789ABCDEF"[rng.usize(..16)])).collect() };
    format!("{{{}-{}-{}-{}-{}}}", hex(8), hex(4), hex(4), hex(4), hex(12))
}

/// The package installer's rearranged spelling: the first three groups reversed, then pair by pair.
pub fn packed(guid: &str) -> String {
    let plain: Vec<char> = guid.chars().filter(char::is_ascii_hexdigit).collect();
    let mut packed: Vec<char> = Vec::new();
    for (start, len) in [(0, 8), (8, 4), (12, 4)] {
        packed.extend(plain[start..start + len].iter().rev());
    }
    for pair in plain[16..].chunks(2) {
        packed.extend(pair.iter().rev());
    }
    packed.into_iter().collect()
}
