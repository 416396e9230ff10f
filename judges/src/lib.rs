//! Nothing of its own: the judges are the tests.
