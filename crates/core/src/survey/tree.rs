//! A compact tree of named nodes: files and folders, or registry keys.

use super::names::{NameId, Names};
use crate::model::text::fold;

/// Number of a node in a [`Tree`]; the root, which has no name, is zero.
pub type NodeId = u32;

#[derive(Debug)]
struct Node<T> {
    parent: NodeId,
    name: NameId,
    data: T,
}

/// Nodes with parent links and, per node, its children sorted by folded name.
#[derive(Debug)]
pub struct Tree<T> {
    names: Names,
    nodes: Vec<Node<T>>,
    starts: Vec<u32>,
    children: Vec<NodeId>,
}

/// Collects nodes in any order in which parents come before children.
#[derive(Debug)]
#[must_use]
pub struct TreeBuilder<T> {
    names: Names,
    nodes: Vec<Node<T>>,
}

impl<T> TreeBuilder<T> {
    /// A tree with nothing but its nameless root.
    pub fn new(root: T) -> Self {
        let mut names = Names::default();
        let name = names.intern("");
        Self { names, nodes: vec![Node { parent: 0, name, data: root }] }
    }

    /// Adds a node below `parent`.
    pub fn add(&mut self, parent: NodeId, name: &str, data: T) -> NodeId {
        let name = self.names.intern(name);
        self.nodes.push(Node { parent, name, data });
        (self.nodes.len() - 1) as NodeId
    }

    /// What the node that was added last holds.
    pub(crate) fn last_mut(&mut self) -> &mut T {
        &mut self.nodes.last_mut().expect("the root is always there").data
    }

    /// Sorts the children and makes the tree ready to be asked.
    pub fn finish(self) -> Tree<T> {
        let Self { names, nodes } = self;
        let mut starts = vec![0u32; nodes.len() + 1];
        for node in &nodes[1..] {
            starts[node.parent as usize + 1] += 1;
        }
        for at in 1..starts.len() {
            starts[at] += starts[at - 1];
        }
        let mut next = starts.clone();
        let mut children = vec![0; nodes.len() - 1];
        for (id, node) in nodes.iter().enumerate().skip(1) {
            let slot = &mut next[node.parent as usize];
            children[*slot as usize] = id as NodeId;
            *slot += 1;
        }
        let mut tree = Tree { names, nodes, starts, children };
        let mut sorted = std::mem::take(&mut tree.children);
        for at in 0..tree.nodes.len() {
            let range = tree.starts[at] as usize..tree.starts[at + 1] as usize;
            sorted[range].sort_by(|a, b| tree.folded_name(*a).cmp(tree.folded_name(*b)));
        }
        tree.children = sorted;
        tree
    }
}

impl<T> Tree<T> {
    /// All names, one behind the other.
    pub(super) fn names(&self) -> &Names {
        &self.names
    }

    /// Nodes of that name.
    pub(super) fn named(&self, name: NameId) -> impl Iterator<Item = NodeId> + '_ {
        let nodes = self.nodes.iter().enumerate();
        nodes.filter(move |(_, node)| node.name == name).map(|(at, _)| at as NodeId)
    }

    /// The nameless node above everything.
    pub fn root(&self) -> NodeId {
        0
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
        self.names.get(self.nodes[at as usize].name)
    }

    /// The node's name in the form in which equal names compare equal.
    pub fn folded_name(&self, at: NodeId) -> &str {
        self.names.get(self.names.folded(self.nodes[at as usize].name))
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
        let range = self.starts[at as usize] as usize..self.starts[at as usize + 1] as usize;
        self.children[range].iter().copied()
    }

    /// The child of that name, compared without regard to case.
    pub fn child(&self, at: NodeId, name: &str) -> Option<NodeId> {
        let range = self.starts[at as usize] as usize..self.starts[at as usize + 1] as usize;
        let children = &self.children[range];
        let wanted = fold(name);
        children.binary_search_by(|child| self.folded_name(*child).cmp(&wanted)).ok().map(|found| children[found])
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
