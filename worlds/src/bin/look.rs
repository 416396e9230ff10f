//! One made-up machine, for a person to look at: `cargo run -p stubble-worlds --bin look SEED [PART]`
//! lists its products and every place whose path holds PART.

#![allow(clippy::print_stdout)]

fn main() {
    let mut args = std::env::args().skip(1);
    let seed = args.next().and_then(|seed| seed.parse().ok()).unwrap_or(1);
    let part = args.next().unwrap_or_else(|| "\0".to_owned()).to_lowercase();
    let world = stubble_worlds::grow(seed);
    println!("typed: {}; removed: {:?}", world.typed, world.removed);
    for (number, product) in world.products.iter().enumerate() {
        let mark = if number == world.subject { "->" } else { "  " };
        println!(
            "{mark} {number} {} by {} ({:?}) in {}",
            product.name, product.publisher.listed, product.setup, product.folder
        );
    }
    let machine = &world.machine;
    for (path, (file, mark)) in machine.files.iter().filter(|(path, _)| path.to_lowercase().contains(&part)) {
        println!("{path} {file:?} {:?} {}", mark.whose, mark.kind);
    }
    for ((key, name), (value, mark)) in &machine.values {
        let text = String::from_utf16_lossy(
            &value.data.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect::<Vec<_>>(),
        );
        if key.to_lowercase().contains(&part) || text.to_lowercase().contains(&part) {
            println!("{key} : {name} = {text} {:?} {}", mark.whose, mark.kind);
        }
    }
}
