//! A disk that loses what was not synced: operations are counted, the power fails at one of them, and
//! afterwards what had not reached the disk is taken back.

use std::cell::{Cell, RefCell};
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::rc::Rc;

use filetime::FileTime as Stamp;
use stubble_machine::durable::{Op, Power, Witness};

/// What a power cut does to what was not synced.
#[derive(Clone, Copy, Debug)]
pub enum Loss {
    /// All of it reached the disk all the same.
    None,
    /// None of it did.
    All,
    /// Names did, contents are zeros.
    Zeros,
    /// Any part of it did, in any order.
    Some(u64),
}

pub const LOSSES: [Loss; 5] = [Loss::None, Loss::All, Loss::Zeros, Loss::Some(3), Loss::Some(77)];

/// One operation that was done, with what it takes to undo it.
struct Done {
    op: Op,
    /// What was in the place of a file that was replaced or removed.
    replaced: Option<PathBuf>,
    /// Length of a file before, in bytes.
    len: u64,
    /// Times of change before, of what the operation touches.
    times: Vec<(PathBuf, Stamp)>,
}

/// Counts operations, lets the power fail once, and knows what is not synced.
pub struct Recorder {
    cut: Option<(usize, Power)>,
    pub count: Cell<usize>,
    pub torn_at: RefCell<Vec<usize>>,
    pending: RefCell<Option<Done>>,
    done: RefCell<Vec<Done>>,
    stash: PathBuf,
}

fn time(path: &Path) -> Option<Stamp> {
    fs::symlink_metadata(path).ok().map(|meta| Stamp::from_last_modification_time(&meta))
}

impl Recorder {
    pub fn new(cut: Option<(usize, Power)>, stash: &Path) -> Rc<Self> {
        let _ = fs::remove_dir_all(stash);
        fs::create_dir_all(stash).unwrap();
        Rc::new(Self {
            cut,
            count: Cell::new(0),
            torn_at: RefCell::default(),
            pending: RefCell::default(),
            done: RefCell::default(),
            stash: stash.to_owned(),
        })
    }

    /// What is needed to undo an operation that is about to happen.
    fn prepare(&self, op: &Op) -> Done {
        let keep = |path: &Path| {
            let to = self.stash.join(self.count.get().to_string());
            fs::hard_link(path, &to).or_else(|_| fs::copy(path, &to).map(drop)).ok().map(|()| to)
        };
        let mut done = Done { op: op.clone(), replaced: None, len: 0, times: Vec::new() };
        let mut touched = Vec::new();
        match op {
            Op::MakeFolder(path) | Op::Link(_, path) | Op::Symlink(path) => touched.extend(path.parent()),
            Op::RemoveFolder(path) => touched.extend([Some(path.as_path()), path.parent()].into_iter().flatten()),
            Op::RemoveFile(path) => {
                done.replaced = keep(path);
                touched.extend(path.parent());
            }
            Op::Create(path) => {
                // An old one is overwritten in place: its content is copied, not linked.
                if path.exists() {
                    let to = self.stash.join(self.count.get().to_string());
                    fs::copy(path, &to).unwrap();
                    done.replaced = Some(to);
                }
                touched.extend(path.parent());
            }
            Op::Append(path, _) | Op::Shorten(path, _) => {
                done.len = fs::metadata(path).unwrap().len();
                if matches!(op, Op::Shorten(..)) {
                    let to = self.stash.join(self.count.get().to_string());
                    fs::copy(path, &to).unwrap();
                    done.replaced = Some(to);
                }
            }
            Op::Rename(from, to) => {
                done.replaced = keep(to);
                touched.extend([from.parent(), to.parent()].into_iter().flatten());
            }
            Op::SetTime(path) => touched.push(path),
            Op::SyncFile(_) | Op::SyncFolder(_) => {}
        }
        done.times = touched.into_iter().filter_map(|path| Some((path.to_owned(), time(path)?))).collect();
        done
    }

    /// Takes back what a loss says of all that was not synced.
    pub fn lose(&self, loss: Loss) {
        let done = self.done.take();
        let mut seed = match loss {
            Loss::None => return,
            Loss::Some(seed) => seed,
            _ => 0,
        };
        // A file system writes its journal in order: one sync also keeps the names before it.
        let ordered = done.iter().rposition(|one| matches!(one.op, Op::SyncFile(_) | Op::SyncFolder(_)));
        for (number, one) in done.iter().enumerate().rev() {
            let synced = |sync: &Op| match (&one.op, sync) {
                (Op::Append(path, _), Op::SyncFile(synced)) => path == synced,
                (Op::MakeFolder(path) | Op::RemoveFolder(path) | Op::RemoveFile(path), Op::SyncFolder(folder))
                | (Op::Create(path) | Op::Link(_, path) | Op::Symlink(path), Op::SyncFolder(folder)) => {
                    path.parent() == Some(folder)
                }
                // A rename is one transaction: it is kept as soon as one of its ends is.
                (Op::Rename(from, to), Op::SyncFolder(folder)) => {
                    from.parent() == Some(folder) || to.parent() == Some(folder)
                }
                (Op::SetTime(path), Op::SyncFolder(folder)) => path == folder,
                _ => false,
            };
            if done[number..].iter().any(|later| synced(&later.op)) {
                continue;
            }
            let is_content = matches!(one.op, Op::Append(..));
            let lost = match loss {
                Loss::None => false,
                Loss::All => is_content || ordered.is_none_or(|last| number > last),
                Loss::Zeros => is_content,
                Loss::Some(_) => {
                    seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
                    seed >> 40 & 1 == 1
                }
            };
            if lost {
                one.undo(matches!(loss, Loss::Zeros) || seed >> 41 & 1 == 1);
            }
        }
    }
}

impl Done {
    /// Undoes the operation where that is still possible: what depends on it may have been kept.
    fn undo(&self, zeros: bool) {
        let worked = match &self.op {
            Op::MakeFolder(path) => fs::remove_dir(path),
            Op::RemoveFolder(path) => fs::create_dir(path),
            Op::RemoveFile(path) => self.bring_back(path),
            Op::Create(path) => fs::remove_file(path).and_then(|()| self.bring_back(path)),
            Op::Link(_, path) | Op::Symlink(path) => fs::remove_file(path),
            Op::Append(path, _) => self.forget(path, zeros),
            Op::Shorten(path, _) => self.bring_back(path),
            Op::Rename(from, to) if fs::symlink_metadata(from).is_err() => {
                fs::rename(to, from).and_then(|()| self.bring_back(to))
            }
            Op::SetTime(_) => Ok(()),
            Op::Rename(..) | Op::SyncFile(_) | Op::SyncFolder(_) => return,
        };
        if worked.is_ok() {
            for (path, time) in &self.times {
                let _ = filetime::set_file_mtime(path, *time);
            }
        }
    }

    fn bring_back(&self, path: &Path) -> std::io::Result<()> {
        match &self.replaced {
            Some(old) => {
                let _ = fs::remove_file(path);
                fs::hard_link(old, path).or_else(|_| fs::copy(old, path).map(drop))
            }
            None => Ok(()),
        }
    }

    /// The bytes that were appended are zeros, or not there.
    fn forget(&self, path: &Path, zeros: bool) -> std::io::Result<()> {
        let file = File::options().write(true).open(path)?;
        let len = file.metadata()?.len();
        file.set_len(self.len)?;
        if zeros { file.set_len(len) } else { Ok(()) }
    }
}

impl Witness for Recorder {
    fn before(&self, op: &Op) -> Power {
        let number = self.count.get();
        if matches!(op, Op::Append(..)) {
            self.torn_at.borrow_mut().push(number);
        }
        let power = match self.cut {
            Some((at, power)) if at == number => power,
            _ => Power::On,
        };
        let done = self.prepare(op);
        match power {
            Power::On => *self.pending.borrow_mut() = Some(done),
            Power::Fails => {}
            Power::FailsHalfway => self.done.borrow_mut().push(done),
        }
        self.count.set(number + 1);
        power
    }

    fn after(&self, op: &Op) {
        let done = self.pending.take().filter(|done| done.op == *op).expect("it was prepared");
        self.done.borrow_mut().push(done);
    }
}
