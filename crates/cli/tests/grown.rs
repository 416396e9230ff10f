//! Whole jobs on machines that were grown from seeds, of which nobody has decided what they are like.

use stubble_worlds::product::{Product, Setup};

use super::jobs::Job;

/// The newer version of a grown machine's subject: it refuses as long as the older one is registered.
fn newer(product: &Product) -> String {
    let folder = format!("[ProgramFiles64Folder]{}", product.below());
    format!(
        "name = {name:?}\nversion = \"99.1.0\"\nmanufacturer = {maker:?}\n\
         product_code = \"5D0C1E42-7B9A-4F36-8C21-90AB34CD56EF\"\nupgrade_code = {family:?}\n\
         package_code = \"6E1D2F53-8CAB-4047-9D32-A1BC45DE6700\"\nx64 = true\nfolder = '{folder}'\n\
         [[upgrade]]\ncode = {family:?}\nproperty = \"OLDERFOUND\"\nbelow = \"99.0.0\"\n\
         [[condition]]\nholds = \"NOT OLDERFOUND OR Installed\"\nmessage = \"Remove the older version first.\"\n\
         [[file]]\nname = \"main.exe\"\nsize = 4000\nversion = \"99.1.0.0\"\n",
        name = product.name,
        maker = product.publisher.listed,
        family = product.upgrade.trim_matches(['{', '}']),
    )
}

/// Eight machines that were grown from seeds, whose older version is half gone and stands in the way.
#[test]
fn grown_machines_from_the_failing_setup_to_a_receipt() {
    let payload = "C:\\Setup\\newer.msi";
    let mut done = 0;
    for seed in 900..1100 {
        let world = stubble_worlds::grow(seed);
        let product = &world.products[world.subject];
        if product.setup != Setup::Package || !world.machine.unread.is_empty() {
            continue;
        }
        let mut text = stubble_worlds::description::description(&world);
        text.push_str(&format!("\n[[package]]\nsource = \"newer\"\nat = '{payload}'\n"));
        let package = |source: &str| (source == "newer").then(|| newer(product));
        let job = Job::of(&text, &package, stubble_worlds::scratch());
        let opened = job.run(&["open", &product.name, "--on", "bench:bench", "--payload", payload]);
        // Where nothing of its registration is left, nothing stands in the way; where the name can mean several,
        // nobody is guessed.
        if opened.status.code() != Some(0) || job.run(&["install", "--yes"]).status.code() != Some(1) {
            continue;
        }
        let output = job.must(&["check"], 1);
        assert!(output.contains("Remove the older version first."), "seed {seed}: {output}");
        job.decide();
        job.must(&["clear", "--yes"], 0);
        job.must(&["install", "--yes"], 0);
        let users: Vec<&str> = world.machine.users.iter().map(|user| user.name.as_str()).collect();
        let main = format!("bench/disk/Program Files/{}/main.exe", product.below().replace('\\', "/"));
        job.proven(&main, &users);
        done += 1;
        if done == 8 {
            return;
        }
    }
    panic!("only {done} machines had what it takes");
}
