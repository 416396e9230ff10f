//! The rules, one file each. A new rule is a file here, a line in [`RULES`], and a row of
//! [`RuleId`](super::RuleId) for each kind of evidence that it finds.

mod cached_package;
mod certificate;
mod component_file;
mod content;
mod device_filter;
mod driver;
mod firewall;
mod history;
mod install_folder;
mod list_entry;
mod loaded_library;
mod logged;
mod named_folder;
mod named_key;
mod network_layer;
mod network_provider;
mod pointing;
mod printed;
mod process;
mod program_settings;
mod publisher;
mod registered_folder;
mod registration;
mod search_path;
mod service;
mod shared_count;
mod shortcut;
mod signer;
mod startup;
mod store_package;
mod task;

use super::{Claims, Scene};

/// One kind of evidence.
pub trait Rule: Sync {
    /// Looks at the survey and claims what the rule finds. It may build on earlier claims; it is
    /// asked again until no rule finds anything new.
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims);
}

/// All rules, those that stand on their own first.
pub static RULES: &[&dyn Rule] = &[
    &list_entry::ListEntry,
    &registration::Registration,
    &install_folder::InstallFolder,
    &named_folder::NamedFolder,
    &named_key::NamedKey,
    &component_file::ComponentFile,
    &logged::Logged,
    &publisher::Publisher,
    &content::Content,
    &service::Service,
    &process::Process,
    &shortcut::Shortcut,
    &startup::Startup,
    &task::Task,
    &driver::Driver,
    &device_filter::DeviceFilter,
    &network_layer::NetworkLayer,
    &network_provider::NetworkProvider,
    &firewall::Firewall,
    &search_path::SearchPath,
    &loaded_library::LoadedLibrary,
    &shared_count::SharedCount,
    &store_package::StorePackage,
    &cached_package::CachedPackage,
    &pointing::Pointing,
    &registered_folder::RegisteredFolder,
    &program_settings::ProgramSettings,
    &certificate::Certificate,
    &printed::Printed,
    &signer::Signer,
    &history::History,
];
