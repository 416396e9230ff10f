//! The demo's machine: PC `WEIGH-03` at the weighing station of the cheese dairy Ambleforth Vale.

/// The broken machine.
pub const WORLD: &str = include_str!("../../demo/weigh-03.toml");

/// The description of a package of the demo's story.
pub fn package(name: &str) -> Option<String> {
    let text = match name {
        "scale-desk-5.1" => include_str!("../../demo/packages/scale-desk-5.1.toml"),
        "scale-desk-5.2" => include_str!("../../demo/packages/scale-desk-5.2.toml"),
        "weigh-3" => include_str!("../../demo/packages/weigh-3.toml"),
        "label-bridge" => include_str!("../../demo/packages/label-bridge.toml"),
        "recipes" => include_str!("../../demo/packages/recipes.toml"),
        "batch-clock" => include_str!("../../demo/packages/batch-clock.toml"),
        _ => return None,
    };
    Some(text.to_owned())
}
