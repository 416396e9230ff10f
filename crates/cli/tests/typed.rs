//! Jobs at a terminal: what a person types, and what is shown.

use std::io::Write;
use std::process::{Command, Stdio};

use super::jobs::Job;

impl Job {
    /// Types these answers, in the order in which they are read.
    fn typed(&self, command: &str, answers: &str, exit: i32) -> String {
        // Gives the program a terminal of 100 columns.
        let line = format!("stty cols 100 rows 40 -echo; {} {command}", env!("CARGO_BIN_EXE_stubble"));
        let mut child = Command::new("script")
            .args(["-qefc", &line, "/dev/null"])
            .current_dir(self.at(""))
            .env_remove("STUBBLE_CASE")
            .env("NO_COLOR", "1")
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        child.stdin.take().unwrap().write_all(answers.as_bytes()).unwrap();
        let output = child.wait_with_output().unwrap();
        let text = String::from_utf8_lossy(&output.stdout).replace('\r', "");
        assert_eq!(output.status.code(), Some(exit), "{text}");
        text
    }
}

#[test]
fn questions_are_explained_and_what_was_decided_is_kept_when_the_job_goes_on() {
    let job = Job::new("demo");
    let mend = "mend 'scale desk' --on bench:bench";
    // Enter continues after the long stages; then comes the question about another publisher's program.
    let output = job.typed(mend, "\n\n?\nwhy\nshow\nhuh\nq\n", 1);
    for part in ["s01: end process", "Do it? [yes, no, why", "holds C:\\ProgramData", "kept"] {
        assert!(output.contains(part), "{part}: {output}");
    }
    assert_eq!(
        output.matches("later  it stays for now").count(),
        2,
        "an answer that is not known is explained: {output}"
    );
    job.must(&["plan", "--keep", "C:\\ProgramData\\Fennelgate\\Weigh 3", "--because", "for the audit"], 0);

    // The same words go on at the plan, with what was decided by hand, and ask only what is undecided.
    let output = job.typed(mend, "y\n\ny\ny\n", 0);
    assert!(output.contains("Going on with the case") && output.contains("decided by you: for the audit"), "{output}");
    let receipt = job.must(&["confirm"], 0);
    assert!(receipt.contains("you decided so: for the audit"), "{receipt}");
    assert!(job.at("bench/disk/ProgramData/Fennelgate/Weigh 3").is_dir());
    assert!(!job.at("bench/disk/Program Files (x86)/Fennelgate").exists());
}
