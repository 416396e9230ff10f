//! A compact tree of named nodes: files and folders, or registry keys.

use super::blocks::{BlockId, Blocks, NameAt};
use crate::model::text::{compare_folded, compare_folded_bytes};

/// Number of a node in a [`Tree`]; the root, which has no name, is zero.
pub type NodeId = u32;

#[derive(Debug)]
struct Node<T> {
    parent: NodeId,
    /// Its children, in the order of their names, in [`Tree::children`].
    first: u32,
    count: u32,
    name: NameAt,
    data: T,
}

/// No children yet, and no room kept for any.
const NONE: u32 = u32::MAX;
/// A slot for a child that is still to come.
const FREE: NodeId = NodeId::MAX;
/// What ends a row of slots; the root is nobody's child.
const END: NodeId = 0;

/// Nodes with parent links and, per node, its children sorted by folded name.
#[derive(Debug)]
pub struct Tree<T> {
    blocks: Blocks,
    nodes: Vec<Node<T>>,
    children: Vec<NodeId>,
}

/// Collects nodes in any order in which parents come before children.
#[derive(Debug)]
#[must_use]
pub struct TreeBuilder<T> {
    blocks: Blocks,
    nodes: Vec<Node<T>>,
    children: Vec<NodeId>,
    /// Children for which no room was kept, with the node above each.
    stray: Vec<(NodeId, NodeId)>,
    /// Nodes whose children come in any order.
    unsorted: Vec<NodeId>,
}

impl<T> TreeBuilder<T> {
    /// A tree with nothing but its nameless root.
    pub fn new(root: T) -> Self {
        let mut blocks = Blocks::default();
        let name = blocks.copy_name("");
        let nodes = vec![Node { parent: 0, first: NONE, count: 0, name, data: root }];
        Self { blocks, nodes, children: Vec::new(), stray: Vec::new(), unsorted: Vec::new() }
    }

    /// Makes room for about so many nodes more, with so many bytes of names that are copied.
    pub fn reserve(&mut self, more: usize, names: usize) {
        self.nodes.reserve(more);
        self.blocks.room(names);
    }

    /// Keeps room for the children of a node that has none yet. A reader that knows how many
    /// will come, and that they come sorted, saves the tree from finding out at the end.
    pub fn expect(&mut self, node: NodeId, count: usize, sorted: bool) {
        if !sorted {
            self.unsorted.push(node);
        }
        self.nodes[node as usize].first = self.children.len() as u32;
        self.children.resize(self.children.len() + count, FREE);
        self.children.push(END);
    }

    /// Adds a node below `parent`.
    pub fn add(&mut self, parent: NodeId, name: &str, data: T) -> NodeId {
        let name = self.blocks.copy_name(name);
        self.push(parent, name, data)
    }

    /// Adds a node whose name lies in a block that is filled later: `len` bytes of UTF-8 from
    /// `start` on.
    pub(super) fn add_in(&mut self, parent: NodeId, block: BlockId, start: u32, len: u16, data: T) -> NodeId {
        self.push(parent, NameAt { start, len, block: block.0 }, data)
    }

    fn push(&mut self, parent: NodeId, name: NameAt, data: T) -> NodeId {
        let id = self.nodes.len() as NodeId;
        let above = &mut self.nodes[parent as usize];
        match self.children.get_mut(above.first.wrapping_add(above.count) as usize) {
            Some(slot) if above.first != NONE && *slot == FREE => {
                *slot = id;
                above.count += 1;
            }
            _ => self.stray.push((parent, id)),
        }
        self.nodes.push(Node { parent, first: NONE, count: 0, name, data });
        id
    }

    pub(super) fn blocks_mut(&mut self) -> &mut Blocks {
        &mut self.blocks
    }

    /// What the node that was added last holds.
    pub(crate) fn last_mut(&mut self) -> &mut T {
        &mut self.nodes.last_mut().expect("the root is always there").data
    }

    /// Makes the tree ready to be asked; where children did not come in order, they are sorted.
    pub fn finish(self) -> Tree<T> {
        let mut tree = Tree { blocks: self.blocks, nodes: self.nodes, children: self.children };
        if self.stray.len() > tree.nodes.len() / 4 {
            tree.arrange();
        } else {
            let mut unsorted = self.unsorted;
            unsorted.extend(tree.bring_home(self.stray));
            tree.sort(&unsorted);
        }
        tree
    }
}

impl<T> Tree<T> {
    /// Finds every node's children by their parents, and sorts them.
    fn arrange(&mut self) {
        let mut next = 0;
        for node in &mut self.nodes {
            node.count = 0;
        }
        for id in 1..self.nodes.len() {
            let parent = self.nodes[id].parent as usize;
            self.nodes[parent].count += 1;
        }
        for node in &mut self.nodes {
            node.first = next;
            next += std::mem::take(&mut node.count);
        }
        self.children = vec![0; next as usize];
        for id in 1..self.nodes.len() {
            let parent = self.nodes[id].parent as usize;
            let above = &mut self.nodes[parent];
            above.count += 1;
            self.children[(above.first + above.count - 1) as usize] = id as NodeId;
        }
        let all: Vec<NodeId> = (0..self.nodes.len() as NodeId).collect();
        self.sort(&all);
    }

    /// Puts children for which there was no room with their brothers; tells the nodes above.
    fn bring_home(&mut self, mut stray: Vec<(NodeId, NodeId)>) -> Vec<NodeId> {
        stray.sort_unstable();
        let mut above = Vec::new();
        for family in stray.chunk_by(|a, b| a.0 == b.0) {
            let parent = family[0].0;
            let first = self.children.len() as u32;
            let mut all = self.children_of(parent).to_vec();
            all.extend(family.iter().map(|(_, child)| *child));
            let node = &mut self.nodes[parent as usize];
            (node.first, node.count) = (first, all.len() as u32);
            self.children.extend(all);
            above.push(parent);
        }
        above
    }

    /// Sorts the children of these nodes.
    fn sort(&mut self, of: &[NodeId]) {
        let mut sorted = std::mem::take(&mut self.children);
        let bytes = |at: NodeId| self.blocks.name_bytes(self.nodes[at as usize].name);
        let order = |a: &NodeId, b: &NodeId| compare_folded_bytes(bytes(*a), bytes(*b));
        for node in of.iter().map(|at| &self.nodes[*at as usize]).filter(|node| node.count > 1) {
            let range = &mut sorted[node.first as usize..(node.first + node.count) as usize];
            if !range.is_sorted_by(|a, b| order(a, b).is_le()) {
                range.sort_by(order);
            }
        }
        self.children = sorted;
    }

    fn children_of(&self, at: NodeId) -> &[NodeId] {
        let node = &self.nodes[at as usize];
        match node.count {
            0 => &[],
            count => &self.children[node.first as usize..(node.first + count) as usize],
        }
    }
}

impl<T> Tree<T> {
    pub(super) fn blocks(&self) -> &Blocks {
        &self.blocks
    }

    /// Where a node's name lies.
    pub(super) fn name_at(&self, at: NodeId) -> NameAt {
        self.nodes[at as usize].name
    }

    /// The nameless node above everything.
    pub fn root(&self) -> NodeId {
        0
    }

    /// All nodes but the root, parents before children.
    pub fn all(&self) -> impl Iterator<Item = NodeId> + use<T> {
        1..self.nodes.len() as NodeId
    }

    /// Number of nodes, without the root.
    pub fn len(&self) -> usize {
        self.nodes.len() - 1
    }

    /// Whether there is nothing but the root.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The node's own name.
    pub fn name(&self, at: NodeId) -> &str {
        self.blocks.name(self.nodes[at as usize].name)
    }

    /// What the node holds.
    pub fn data(&self, at: NodeId) -> &T {
        &self.nodes[at as usize].data
    }

    /// The node above.
    pub fn parent(&self, at: NodeId) -> NodeId {
        self.nodes[at as usize].parent
    }

    /// Children in the order of their folded names.
    pub fn children(&self, at: NodeId) -> impl Iterator<Item = NodeId> + '_ {
        self.children_of(at).iter().copied()
    }

    /// The child of that name, compared without regard to case.
    pub fn child(&self, at: NodeId, name: &str) -> Option<NodeId> {
        let children = self.children_of(at);
        let found = children.binary_search_by(|child| compare_folded(self.name(*child), name));
        found.ok().map(|found| children[found])
    }

    /// The node at a path of names separated by backslashes.
    pub fn find(&self, path: &str) -> Option<NodeId> {
        path.split('\\').try_fold(self.root(), |at, part| self.child(at, part))
    }

    /// The node's path from the root.
    pub fn path(&self, at: NodeId) -> String {
        let mut parts = Vec::new();
        let mut node = at;
        while node != 0 {
            parts.push(self.name(node));
            node = self.parent(node);
        }
        parts.reverse();
        parts.join("\\")
    }

    /// The node and all below it, parents before children.
    pub fn below(&self, at: NodeId) -> Vec<NodeId> {
        let mut found = vec![at];
        let mut next = 0;
        while next < found.len() {
            let node = found[next];
            found.extend(self.children(node));
            next += 1;
        }
        found
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn children_are_found_in_any_case_and_paths_keep_their_spelling() {
        let mut builder = TreeBuilder::new(0);
        let drive = builder.add(0, "C:", 1);
        let users = builder.add(drive, "Users", 2);
        builder.add(users, "night-shift", 3);
        builder.add(users, "Maren", 4);
        builder.add(users, "Äbte", 5);
        let tree = builder.finish();
        let maren = tree.find("c:\\USERS\\maren").unwrap();
        assert_eq!((tree.path(maren).as_str(), *tree.data(maren)), ("C:\\Users\\Maren", 4));
        assert!(tree.find("C:\\Users\\äbte").is_some());
        assert_eq!(tree.find("C:\\Users\\nobody"), None);
        assert_eq!(tree.below(users).len(), 4);
        assert_eq!(tree.len(), 5);
    }
}
