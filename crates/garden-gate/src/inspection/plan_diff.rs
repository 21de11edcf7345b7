//! Where two plans part.

use crate::physical::PlanNode;

/// A node in a few words: `index lookup task by task_bed_ix`.
pub(super) fn title(node: &PlanNode) -> String {
    let kind = node.kind.map(|kind| format!(", {kind}")).unwrap_or_default();
    let kind = kind + if node.null_aware { ", NULL-aware" } else { "" };
    let target = node.target.as_deref().map(|target| format!(" {target}")).unwrap_or_default();
    let index = node.index.as_ref().map(|index| format!(" by {index}")).unwrap_or_default();
    format!("{}{kind}{target}{index}", node.operator)
}

/// The topmost place where two plans part: the way down to it, and what appears there in each; `None` where one plan ends.
pub(super) fn first_parting(a: &PlanNode, b: &PlanNode) -> Option<(String, [Option<String>; 2])> {
    parting(Some(a), Some(b), &mut Vec::new())
}

fn parting(
    a: Option<&PlanNode>,
    b: Option<&PlanNode>,
    above: &mut Vec<String>,
) -> Option<(String, [Option<String>; 2])> {
    let titles = [a.map(title), b.map(title)];
    let (Some(a), Some(b)) = (a, b) else {
        return (titles[0] != titles[1]).then(|| (above.join(" → "), titles));
    };
    let details = |node: &PlanNode| {
        let texts = node.predicates.iter().map(|predicate| format!("{}: {}", predicate.place, predicate.text));
        texts.chain(node.details.iter().cloned()).collect::<Vec<_>>()
    };
    if titles[0] != titles[1] {
        return Some((above.join(" → "), titles));
    }
    above.push(title(a));
    let most = a.children.len().max(b.children.len());
    let below = (0..most).find_map(|at| parting(a.children.get(at), b.children.get(at), above));
    above.pop();
    if below.is_some() {
        return below;
    }
    let (left, right) = (details(a), details(b));
    (left != right).then(|| {
        let shown = |node: &PlanNode, texts: &[String]| Some(format!("{} ({})", title(node), texts.join("; ")));
        (above.join(" → "), [shown(a, &left), shown(b, &right)])
    })
}

/// A plan in one line, its inputs in parentheses after each operator that has any to tell apart.
pub(super) fn line(node: &PlanNode) -> String {
    let own = title(node);
    match node.children.as_slice() {
        [] => own,
        [only] => format!("{own} ← {}", line(only)),
        several => format!("{own} ({})", several.iter().map(line).collect::<Vec<_>>().join(", ")),
    }
}
