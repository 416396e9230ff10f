//! On Windows the program carries its manifest and its version resource.

fn main() {
    println!("cargo::rerun-if-changed=windows/stubble.manifest");
    let for_windows = std::env::var("CARGO_CFG_TARGET_OS").is_ok_and(|system| system == "windows");
    if for_windows {
        let mut resource = winresource::WindowsResource::new();
        resource
            .set_manifest_file("windows/stubble.manifest")
            .set("ProductName", "Stubble")
            .set("FileDescription", "Finds and removes what a broken install left behind")
            .set("LegalCopyright", "MIT or Apache-2.0");
        resource.compile().expect("the resource compiler is part of the toolchain for Windows");
    }
}
