//! A small installer engine: it carries out the tables of a real package on the bench.
//!
//! It knows the actions that the demo's packages need, in the order of the package's own
//! sequence, and says in its log which others it leaves out. It fails where the real one fails:
//! at launch conditions, at a related product whose cached package is gone, at files in use.

mod actions;
mod log;
mod register;
mod remove;

use std::collections::BTreeMap;

use stubble_core::model::Guid;
use stubble_core::packages::condition::Condition;
use stubble_core::packages::layout::Layout;
use stubble_core::packages::predict::{Prediction, Stop, holds, predict};
use stubble_core::packages::{Package, Registered};
use stubble_core::survey::Survey;

use self::log::Log;
use super::Bench;
use crate::disk::Edit;
use crate::edits::Edits;
use crate::{InstallerRun, MachineError, Observe};

/// Exit code of an installation that stopped with an error.
const FAILED: u32 = 1603;
/// Exit code for a product that is not installed.
const UNKNOWN_PRODUCT: u32 = 1605;
/// Exit code where the package that is needed is gone.
const NO_SOURCE: u32 = 1612;
/// Exit code for a file that is no package.
const NO_PACKAGE: u32 = 1620;

/// One run of the engine.
struct Session<'b> {
    bench: &'b Bench,
    survey: Survey,
    payload: &'b str,
    bytes: &'b [u8],
    package: Package,
    prediction: Prediction,
    log: Log,
    edit: Edit<'b>,
}

/// Why an action stopped the installation; the engine itself is sound.
struct Stopped(String);

/// What an action came to: done, or a reason to stop; errors are the bench's own.
type Done = Result<Result<(), Stopped>, MachineError>;

/// Runs a package to its end and tells exit code and log. `set` are properties, as on the installer's command line.
pub(super) fn run(
    bench: &Bench,
    payload: &str,
    bytes: &[u8],
    set: &BTreeMap<String, String>,
) -> Result<InstallerRun, MachineError> {
    let now = bench.state()?.now;
    let mut log = Log::start(now, payload);
    let mut package = match Package::read(bytes) {
        Ok(package) => package,
        Err(error) => {
            log.server(&format!("The file cannot be opened as a package: {error}"));
            return Ok(InstallerRun { code: NO_PACKAGE, log: log.finish(NO_PACKAGE) });
        }
    };
    package.properties.extend(set.clone());
    let survey = bench.survey()?;
    let prediction = Prediction::default();
    let edit = bench.edit()?;
    let mut session = Session { bench, survey, payload, bytes, package, prediction, log, edit };
    let code = session.carry_out()?;
    let Session { mut log, edit, package, survey, .. } = session;
    if code == 0 {
        edit.commit()?;
        register::start_services(bench, &package, &layout(&package, &survey))?;
    }
    let outcome = if code == 0 { "Installation completed successfully." } else { "Installation failed." };
    log.product(&package.name, outcome);
    Ok(InstallerRun { code, log: log.finish(code) })
}

/// Where a package's things are, or go.
fn layout<'p>(package: &'p Package, survey: &Survey) -> Layout<'p> {
    Layout::on(package, survey, &Registered::read(survey))
}

/// Removes a product by its cached package and tells exit code and log.
pub(super) fn uninstall(bench: &Bench, code: Guid) -> Result<InstallerRun, MachineError> {
    let survey = bench.survey()?;
    let registered = Registered::read(&survey);
    let mut log = Log::start(bench.state()?.now, &code.to_string());
    log.begin("REMOVE");
    let known = registered.products.get(&code).filter(|product| product.has_product_key);
    let cached = known.filter(|product| product.cache_is_there(&survey) == Some(true));
    let (number, outcome) = match (known, cached) {
        (None, _) => {
            (UNKNOWN_PRODUCT, "This action is only valid for products that are currently installed.".to_owned())
        }
        (_, None) => (NO_SOURCE, "The installation source for this product is not available.".to_owned()),
        (_, Some(product)) => {
            let mut edit = bench.edit()?;
            match remove::product(bench, &survey, &mut edit, code, product)? {
                Ok(()) => {
                    edit.commit()?;
                    (0, "Removal completed successfully.".to_owned())
                }
                Err(Stopped(message)) => (FAILED, message),
            }
        }
    };
    log.product(known.map_or("", |product| &product.name), &outcome);
    log.end("REMOVE", if number == 0 { 1 } else { 3 });
    Ok(InstallerRun { code: number, log: log.finish(number) })
}

impl Session<'_> {
    fn carry_out(&mut self) -> Result<u32, MachineError> {
        self.log.begin("INSTALL");
        let sequence = self.package.sequence.clone();
        for action in sequence {
            let condition = Condition::parse(&action.condition);
            let skip = match &condition {
                Ok(condition) => !holds(condition, &self.properties(), &self.survey),
                Err(_) => true,
            };
            if skip {
                self.log.server(&format!("Skipping action: {} (condition is false)", action.name));
                continue;
            }
            self.log.server(&format!("Doing action: {}", action.name));
            self.log.begin(&action.name);
            let done = self.action(&action.name)?;
            if let Err(Stopped(message)) = done {
                self.log.product(&self.package.name, &message);
                self.log.end(&action.name, 3);
                self.log.end("INSTALL", 3);
                self.list_properties();
                return Ok(FAILED);
            }
            self.log.end(&action.name, 1);
        }
        self.log.end("INSTALL", 1);
        self.list_properties();
        Ok(0)
    }

    fn action(&mut self, name: &str) -> Done {
        match name {
            "FindRelatedProducts" => self.find_related(),
            "LaunchConditions" => Ok(self.launch_conditions()),
            "RemoveExistingProducts" => self.remove_existing(),
            "InstallFiles" => self.install_files(),
            "CreateShortcuts" => self.create_shortcuts(),
            "WriteRegistryValues" => self.write_values(),
            "InstallServices" => self.install_services(),
            "ProcessComponents" => self.process_components(),
            "RegisterProduct" => self.register_product(),
            "PublishFeatures" => self.publish_features(),
            "PublishProduct" => self.publish_product(),
            // What these do is part of the actions above, or nothing on the bench.
            "CostInitialize" | "FileCost" | "CostFinalize" | "InstallValidate" | "InstallInitialize"
            | "InstallFinalize" | "AppSearch" | "StartServices" | "ValidateProductID" => Ok(Ok(())),
            other => {
                self.log.server(&format!("Action {other} is not carried out by this engine"));
                Ok(Ok(()))
            }
        }
    }

    fn properties(&self) -> BTreeMap<String, String> {
        match self.prediction.properties.is_empty() {
            true => self.package.properties.clone(),
            false => self.prediction.properties.clone(),
        }
    }

    /// Looks for related products, and with them evaluates what the package will decide by.
    fn find_related(&mut self) -> Done {
        let registered = Registered::read(&self.survey);
        self.prediction = predict(&self.package, &self.survey, &registered);
        let mut told: Vec<&str> = Vec::new();
        for related in &self.prediction.related {
            if !told.contains(&related.property.as_str()) {
                told.push(&related.property);
                let value = self.prediction.properties.get(&related.property).cloned().unwrap_or_default();
                self.log.property(&related.property, &value);
            }
        }
        Ok(Ok(()))
    }

    fn launch_conditions(&mut self) -> Result<(), Stopped> {
        let stop = self.prediction.stops.iter().find_map(|stop| match stop {
            Stop::Condition { message, .. } => Some(message.clone()),
            Stop::Unreadable { condition } => Some(format!("The condition '{condition}' cannot be read.")),
            Stop::CannotRemove { .. } => None,
        });
        stop.map_or(Ok(()), |message| Err(Stopped(message)))
    }

    fn list_properties(&mut self) {
        for (name, value) in self.properties() {
            self.log.line(&format!("Property(S): {name} = {value}"));
        }
    }
}
