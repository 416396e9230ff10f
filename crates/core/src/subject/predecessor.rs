//! Whether a product that setup asks for is a predecessor, which is the subject's, or a product of its own.

use super::names::publisher_words;
use crate::packages::Product;
use crate::survey::Survey;

/// Whether a product that setup asks for is the subject's: one of the same publisher that setup `replaces`, or that is
/// not whole any more. A product that setup only looks for, or of another publisher, is not.
pub(crate) fn is_predecessor(survey: &Survey, replaces: bool, publisher: &str, product: &Product) -> bool {
    let first = |name: &str| publisher_words(name).first().cloned();
    let is_same = product.publisher.is_empty() || first(&product.publisher) == first(publisher);
    is_same && (replaces || !product.is_whole(survey))
}
