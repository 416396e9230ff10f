//! The rules that find evidence: one row for each, with what it weighs and what it is good for.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What evidence of a rule can do for a decision.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Role {
    /// It counts, and the place is taken if all of it suffices.
    Takes,
    /// It counts, but its weight is so small that it never suffices alone.
    Supports,
    /// The place is shown and always kept.
    ShowsOnly,
}

macro_rules! rules {
    ($($variant:ident = $id:literal, $weight:literal, $role:ident, $doc:literal;)*) => {
        /// A rule by which a place is connected with the subject. A rule without a row here does not exist: its
        /// evidence cannot be written down.
        #[derive(
            Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema,
        )]
        pub enum RuleId {
            $(
                #[doc = $doc]
                #[serde(rename = $id)]
                $variant,
            )*
        }

        impl RuleId {
            /// All rules, in the order of their rows.
            pub const ALL: &[Self] = &[$(Self::$variant,)*];

            /// The name in documents, such as `install-folder`.
            pub fn name(self) -> &'static str {
                match self {
                    $(Self::$variant => $id,)*
                }
            }

            /// The probability that a place is the subject's, given this evidence alone.
            pub fn weight(self) -> f64 {
                match self {
                    $(Self::$variant => $weight,)*
                }
            }

            /// What its evidence can do for a decision.
            pub fn role(self) -> Role {
                match self {
                    $(Self::$variant => Role::$role,)*
                }
            }
        }
    };
}

// The weights are our own judgement; together with the thresholds in `weigh` they alone decide a standing.
rules! {
    ListEntry = "list-entry", 0.97, Takes, "An entry of a list of installed programs has the subject's name.";
    Registration = "registration", 0.97, Takes, "The package installer has the subject registered.";
    RelatedRegistration = "related-registration", 0.95, Takes,
        "The package installer has an earlier product registered.";
    KnownCode = "known-code", 0.90, Takes, "One of the subject's codes leads to it.";
    Detected = "detected", 0.50, Takes, "The package looks for it, and it belongs to another publisher.";
    InstallFolder = "install-folder", 0.95, Takes, "A registration names it as the install folder.";
    NamedFolder = "named-folder", 0.88, Takes, "A folder below the publisher's has the product's name.";
    NamedFolderAlone = "named-folder-alone", 0.80, Takes,
        "A folder has the product's name, and no publisher's is above it.";
    NamedFolderElsewhere = "named-folder-elsewhere", 0.78, Takes,
        "A folder has publisher and product in its name.";
    RegisteredFolder = "registered-folder", 0.88, Takes, "A value of the subject's own key names the folder.";
    Content = "content", 0.93, Takes, "A program in it says that it is a part of the subject.";
    Publisher = "publisher", 0.85, Takes, "The publisher's own, in which nothing is another product's.";
    Log = "log", 0.80, Takes, "The log of an install says that it was written.";
    Footprint = "footprint", 0.80, Takes, "The footprint lists it.";
    NamedKey = "named-key", 0.90, Takes, "A key below the publisher's has the product's name.";
    NamedKeyAlone = "named-key-alone", 0.80, Takes, "A key has the product's name, and no publisher's is above it.";
    NamedKeyElsewhere = "named-key-elsewhere", 0.78, Takes, "A key has publisher and product in its name.";
    ShortName = "short-name", 0.78, Takes, "It has the product's name without its brand.";
    ComponentFile = "component-file", 0.95, Takes, "A component of the subject has it as its key file.";
    ServiceProgram = "service-program", 0.96, Takes, "A service runs a program of the subject.";
    ProcessProgram = "process-program", 0.96, Takes, "It runs from a folder of the subject.";
    ShortcutTarget = "shortcut-target", 0.96, Takes, "A shortcut leads to a file of the subject.";
    StartupCommand = "startup-command", 0.96, Takes, "A startup entry runs a program of the subject.";
    StartupSwitch = "startup-switch", 0.96, Takes, "It switches a startup entry of the subject.";
    LeadGone = "lead-gone", 0.90, Takes, "It leads to a place of the subject that is gone.";
    Pointing = "pointing", 0.96, Takes, "A registration leads to a place of the subject.";
    History = "history", 0.96, ShowsOnly, "Windows itself notes there that a program of the subject ran.";
    CachedPackage = "cached-package", 0.96, Takes, "The package that Windows keeps for the subject.";
    CachedIcons = "cached-icons", 0.96, Takes, "The icons that Windows keeps for the subject.";
    TaskCommand = "task-command", 0.96, Takes, "A task runs a program of the subject.";
    NamedTask = "named-task", 0.85, Takes, "A task has the names of publisher and product.";
    NamedTaskAlone = "named-task-alone", 0.76, Takes, "A task has the product's name.";
    FirewallProgram = "firewall-program", 0.96, Takes, "A rule of the firewall names a program of the subject.";
    DeviceFilter = "device-filter", 0.96, Takes, "A device filter is a service of the subject.";
    DeviceFilterPerhaps = "device-filter-perhaps", 0.50, Takes,
        "A device filter is a service that may be the subject's.";
    NetworkLayer = "network-layer", 0.96, Takes, "A layer of the network runs a library of the subject.";
    NetworkLayerGone = "network-layer-gone", 0.50, Takes, "A layer of the network names a library that is gone.";
    NetworkProvider = "network-provider", 0.96, Takes, "A network provider is a service of the subject.";
    ProgramSettings = "program-settings", 0.93, Takes,
        "Windows keeps settings there under a program of the subject.";
    Certificate = "certificate", 0.80, ShowsOnly, "A certificate has the publisher's name.";
    Time = "time", 0.30, Supports, "It was made in the minutes of the install.";
    Signer = "signer", 0.30, Supports, "Its programs are signed by the publisher.";
    SearchPath = "search-path", 0.96, Takes, "An entry of a search path is a folder of the subject.";
    SharedCount = "shared-count", 0.96, Takes, "It counts the products that use a file of the subject.";
    DriverSource = "driver-source", 0.95, Takes, "A driver package was added from a folder of the subject.";
    DriverProvider = "driver-provider", 0.60, Takes, "A driver package's provider is the publisher.";
    DriverProviderAlone = "driver-provider-alone", 0.70, Takes,
        "A driver package's provider is the publisher, of which no other product is there.";
    NamedDriver = "named-driver", 0.80, Takes, "A driver package's description has the product's name.";
    DriverOrphan = "driver-orphan", 0.85, Takes, "It belongs to a driver of the subject that is gone.";
    DriverService = "driver-service", 0.96, Takes, "A driver package of the subject brings the service.";
    DriverServicePerhaps = "driver-service-perhaps", 0.50, Takes,
        "A driver package that may be the subject's brings the service.";
    StorePackage = "store-package", 0.96, Takes,
        "A store package is called after the subject, or has a program of it.";
    Containment = "containment", 1.0, Takes, "It is a part of a place that is wholly the subject's.";
    StoreData = "store-data", 0.96, Takes, "What a store package of the subject keeps for a user.";
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;
    use crate::trace::weigh::standing_of;

    #[test]
    fn rows_have_names_of_their_own_and_weights_that_do_what_they_are_for() {
        let names: BTreeSet<&str> = RuleId::ALL.iter().map(|rule| rule.name()).collect();
        assert_eq!(names.len(), RuleId::ALL.len());
        for rule in RuleId::ALL {
            assert_eq!(serde_json::to_value(rule).unwrap(), rule.name());
            let suffices = standing_of(rule.weight()).is_some();
            assert_eq!(suffices, rule.role() != Role::Supports, "{}", rule.name());
            assert!(rule.weight() < 1.0 || *rule == RuleId::Containment, "{} leaves no doubt", rule.name());
        }
    }
}
