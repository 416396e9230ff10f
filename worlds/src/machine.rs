//! Files and keys by path, each with whose it is.

use std::collections::BTreeMap;

use stubble_core::model::RegValue;

/// Whose a place is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Whose {
    /// It only holds others.
    Nobodys,
    /// It belongs to Windows.
    Windows,
    /// It belongs to one product, by number.
    Product(usize),
    /// Several products use it.
    Shared(Vec<usize>),
    /// A person made it.
    Persons,
}

/// What a place is to its product.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Class {
    /// Part of the installation, or made again by the program: an uninstaller should have taken it.
    Installed,
    /// A person's settings of the program, sign-ins and licences: they stay.
    Settings,
    /// Documents that a person made with it: they stay.
    Documents,
    /// What Windows notes of programs that ran: it stays.
    History,
    /// Something that is shown and stays, such as a certificate.
    Stays,
}

/// What is known of a place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mark {
    /// Whose it is.
    pub whose: Whose,
    /// What it is to them.
    pub class: Class,
    /// The way of installing that made it, for reports and for breaking.
    pub kind: &'static str,
}

impl Mark {
    /// What only holds others.
    pub fn nobodys() -> Self {
        Self { whose: Whose::Nobodys, class: Class::Stays, kind: "holder" }
    }

    /// What belongs to Windows.
    pub fn windows() -> Self {
        Self { whose: Whose::Windows, class: Class::Stays, kind: "windows" }
    }

    /// A part of a product's installation.
    pub fn of(product: usize, kind: &'static str) -> Self {
        Self { whose: Whose::Product(product), class: Class::Installed, kind }
    }

    /// The same, of another class.
    pub fn as_class(self, class: Class) -> Self {
        Self { class, ..self }
    }
}

/// What a file is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum File {
    /// A folder.
    Folder,
    /// A file.
    Plain,
    /// A junction.
    Link,
    /// A shortcut to a path.
    Shortcut(String),
    /// A program that says who made it: company and product.
    Program(String, String),
    /// The definition of a task that runs a command line.
    Task(String),
    /// An installer package: name, manufacturer, product code.
    Package(String, String, String),
    /// An installer's patch: the code of the product that it is for.
    Patch(String),
}

/// An entry of a list of network layers.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Layer {
    /// Path of its library.
    pub library: String,
    /// Of a protocol: the entry's number for chains, and its chain.
    pub protocol: Option<(u32, Vec<u32>)>,
}

impl Layer {
    /// The path as who does not know the code page reads it: a protocol's is written in bytes.
    pub fn written(&self) -> String {
        match self.protocol {
            Some(_) => encoding_rs::WINDOWS_1252.decode_without_bom_handling(self.library.as_bytes()).0.into_owned(),
            None => self.library.clone(),
        }
    }

    /// The value that says so in the registry.
    pub fn value(&self) -> RegValue {
        let Some((id, chain)) = &self.protocol else { return RegValue::text("LibraryPath", &self.library) };
        let mut data = vec![0; 888];
        data[..self.library.len()].copy_from_slice(self.library.as_bytes());
        let numbers = [*id, chain.len() as u32].into_iter().chain(chain.iter().copied());
        for (at, number) in numbers.enumerate() {
            data[296 + 4 * at..300 + 4 * at].copy_from_slice(&number.to_le_bytes());
        }
        RegValue { name: "PackedCatalogItem".to_owned(), kind: 3, data }
    }
}

/// A user of the machine.
#[derive(Clone, Debug)]
pub struct User {
    /// Name of account and profile.
    pub name: String,
    /// Security identifier.
    pub sid: String,
}

impl User {
    /// A folder in the profile.
    pub fn folder(&self, below: &str) -> String {
        format!("C:\\Users\\{}\\{below}", self.name)
    }

    /// A key of the user.
    pub fn key(&self, below: &str) -> String {
        format!("HKU\\{}\\{below}", self.sid)
    }
}

/// A machine in memory.
#[derive(Clone, Debug, Default)]
pub struct Machine {
    /// Its users.
    pub users: Vec<User>,
    /// Files by path.
    pub files: BTreeMap<String, (File, Mark)>,
    /// Keys by path.
    pub keys: BTreeMap<String, Mark>,
    /// Values by key and name.
    pub values: BTreeMap<(String, String), (RegValue, Mark)>,
    /// Entries of list values, in order, by key and name.
    pub lists: BTreeMap<(String, String), Vec<(String, Mark)>>,
    /// Entries of lists of network layers, in order, by the list's key.
    pub layers: BTreeMap<String, Vec<(Layer, Mark)>>,
    /// Programs that run, by path.
    pub running: Vec<String>,
    /// Hives of users that cannot be read: nobody finds what is in them.
    pub unread: Vec<String>,
}

impl Machine {
    fn put(&mut self, path: &str, file: File, mark: Mark) {
        let mut above = path;
        while let Some((folder, _)) = above.rsplit_once('\\') {
            self.files.entry(folder.to_owned()).or_insert((File::Folder, Mark::nobodys()));
            above = folder;
        }
        self.files.insert(path.to_owned(), (file, mark));
    }

    /// A folder.
    pub fn folder(&mut self, path: &str, mark: Mark) {
        self.put(path, File::Folder, mark);
    }

    /// A file.
    pub fn file(&mut self, path: &str, mark: Mark) {
        self.put(path, File::Plain, mark);
    }

    /// A junction.
    pub fn link(&mut self, path: &str, mark: Mark) {
        self.put(path, File::Link, mark);
    }

    /// A shortcut.
    pub fn shortcut(&mut self, path: &str, target: &str, mark: Mark) {
        self.put(path, File::Shortcut(target.to_owned()), mark);
    }

    /// A program that says who made it.
    pub fn program(&mut self, path: &str, company: &str, product: &str, mark: Mark) {
        self.put(path, File::Program(company.to_owned(), product.to_owned()), mark);
    }

    /// The definition of a task.
    pub fn task(&mut self, path: &str, command: &str, mark: Mark) {
        self.put(path, File::Task(command.to_owned()), mark);
    }

    /// An installer package.
    pub fn package(&mut self, path: &str, name: &str, manufacturer: &str, code: &str, mark: Mark) {
        self.put(path, File::Package(name.to_owned(), manufacturer.to_owned(), code.to_owned()), mark);
    }

    /// An installer's patch.
    pub fn patch(&mut self, path: &str, code: &str, mark: Mark) {
        self.put(path, File::Patch(code.to_owned()), mark);
    }

    /// A key.
    pub fn key(&mut self, path: &str, mark: Mark) {
        let mut above = path;
        while let Some((key, _)) = above.rsplit_once('\\') {
            self.keys.entry(key.to_owned()).or_insert(Mark::nobodys());
            above = key;
        }
        self.keys.insert(path.to_owned(), mark);
    }

    /// A value of a key, which is made where it is not there.
    pub fn value(&mut self, key: &str, value: RegValue, mark: Mark) {
        if !self.keys.contains_key(key) {
            self.key(key, Mark::nobodys());
        }
        self.values.insert((key.to_owned(), value.name.clone()), (value, mark));
    }

    /// A key of a product with text values, all of them its own.
    pub fn own_key(&mut self, path: &str, values: &[(&str, &str)], mark: Mark) {
        self.key(path, mark.clone());
        for (name, text) in values {
            self.value(path, RegValue::text(name, text), mark.clone());
        }
    }

    /// An entry at the end of a list value.
    pub fn entry(&mut self, key: &str, name: &str, entry: &str, mark: Mark) {
        if !self.keys.contains_key(key) {
            self.key(key, Mark::nobodys());
        }
        self.lists.entry((key.to_owned(), name.to_owned())).or_default().push((entry.to_owned(), mark));
    }

    /// An entry at the end of a list of network layers.
    pub fn layer(&mut self, list: &str, layer: Layer, mark: Mark) {
        if !self.keys.contains_key(list) {
            self.key(list, Mark::windows());
        }
        self.layers.entry(list.to_owned()).or_default().push((layer, mark));
    }

    /// The values of a key that count the entries of the lists of layers below it.
    pub fn layer_counts(&self, key: &str) -> Vec<RegValue> {
        let below = format!("{key}\\");
        let lists = self.layers.iter().filter_map(|(list, layers)| Some((list.strip_prefix(&below)?, layers)));
        lists.map(|(name, layers)| RegValue::dword(&format!("Num_{name}"), layers.len() as u32)).collect()
    }

    /// Takes a file or folder with all below it.
    pub fn remove_file(&mut self, path: &str) {
        let below = format!("{path}\\");
        self.files.retain(|at, _| at != path && !at.starts_with(&below));
    }

    /// Takes a key with all below it.
    pub fn remove_key(&mut self, path: &str) {
        let below = format!("{path}\\");
        self.keys.retain(|at, _| at != path && !at.starts_with(&below));
        self.values.retain(|(at, _), _| at != path && !at.starts_with(&below));
    }
}
