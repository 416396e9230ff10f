//! Small machines and packages as text, for tests that each need a little of them.

/// A machine with one user, Windows' own files in small, and these rows.
pub fn world(rows: &str) -> String {
    format!(
        "[computer]\nname = \"WEIGH-12\"\nproduct = \"Windows 10 Pro\"\nversion = \"10.0.19045\"\n\
         dated = \"2026-02-27T16:40:00Z\"\nnow = \"2026-03-02T06:40:00Z\"\nscenery = true\n\
         [[user]]\nname = \"maren\"\nsid = \"S-1-5-21-12-12-12-1001\"\n{rows}"
    )
}

/// A row for a package that lies in `C:\Setup`.
pub fn lies(source: &str) -> String {
    format!("[[package]]\nsource = \"{source}\"\nat = 'C:\\Setup\\{source}.msi'\n")
}

/// A package of version 2.0.0 by the demo's publisher; `digit` makes its codes, and `files` are its rows of files.
pub fn package(product: &str, folder: &str, digit: char, files: &str) -> String {
    let id = |part: &str| format!("{digit}{part}00000-0000-4000-8000-000000000000");
    format!(
        "name = \"{product}\"\nversion = \"2.0.0\"\nmanufacturer = \"Fennelgate Instruments\"\nx64 = true\n\
         product_code = \"{}\"\nupgrade_code = \"{}\"\npackage_code = \"{}\"\n\
         folder = '[ProgramFiles64Folder]Fennelgate\\{folder}'\n{files}",
        id("00"),
        id("01"),
        id("02")
    )
}
