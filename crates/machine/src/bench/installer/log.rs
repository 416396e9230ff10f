//! The engine's log, in the layout of the package installer's verbose logs: UTF-16 with a mark.

use stubble_core::model::FileTime;
use stubble_core::model::text::to_utf16_bytes;

pub(super) struct Log {
    text: String,
    clock: String,
    day: String,
}

impl Log {
    pub fn start(now: FileTime, payload: &str) -> Self {
        let (seconds, nanos) = now.to_unix();
        let moment = jiff::Timestamp::new(seconds, nanos as i32).unwrap_or(jiff::Timestamp::UNIX_EPOCH);
        let (clock, day) = (moment.strftime("%H:%M:%S").to_string(), moment.strftime("%d/%m/%Y").to_string());
        let mut log = Self { text: String::new(), clock, day };
        let start =
            format!("=== Verbose logging started: {}  {}  Calling process: bench installer ===", log.day, log.clock);
        log.line(&start);
        log.server(&format!("Running product from package '{payload}'"));
        log
    }

    pub fn line(&mut self, text: &str) {
        self.text.push_str(text);
        self.text.push_str("\r\n");
    }

    /// A line of the installer's service.
    pub fn server(&mut self, text: &str) {
        let line = format!("MSI (s) (0C:5A) [{}:000]: {text}", self.clock);
        self.line(&line);
    }

    pub fn property(&mut self, name: &str, value: &str) {
        self.server(&format!("PROPERTY CHANGE: Adding {name} property. Its value is '{value}'."));
    }

    pub fn product(&mut self, product: &str, message: &str) {
        self.server(&format!("Product: {product} -- {message}"));
    }

    pub fn begin(&mut self, action: &str) {
        let line = format!("Action start {}: {action}.", self.clock);
        self.line(&line);
    }

    pub fn end(&mut self, action: &str, value: u8) {
        let line = format!("Action ended {}: {action}. Return value {value}.", self.clock);
        self.line(&line);
    }

    pub fn finish(mut self, code: u32) -> Vec<u8> {
        self.server(&format!("MainEngineThread is returning {code}"));
        let stop = format!("=== Verbose logging stopped: {}  {} ===", self.day, self.clock);
        self.line(&stop);
        let mut bytes = vec![0xFF, 0xFE];
        bytes.extend(to_utf16_bytes(&self.text));
        bytes
    }
}
