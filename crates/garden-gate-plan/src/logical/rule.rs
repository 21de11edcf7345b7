named! {
    /// A rewrite rule, by the name that plans show and that `SET without_rules` takes.
    pub enum RewriteRule {
        /// A common table expression is computed where it is used.
        InlineCte = "inline CTE",
        /// A correlated subquery becomes a join (Neumann & Kemper, BTW 2015).
        DecorrelateSubquery = "decorrelate subquery",
        /// A mark join whose mark only filters becomes a semi or anti join.
        MarkToSemiJoin = "mark join to semi join",
        /// INTERSECT and EXCEPT without ALL become a semi or an anti join.
        SetOperationToJoin = "set operation to join",
        /// A grouping set is computed from a finer one (Agarwal et al., VLDB 1996).
        GroupFromFinerGroups = "group from finer groups",
        /// A right join is the left join of its exchanged sides.
        RightToLeftJoin = "right join to left join",
        /// A semi or anti join moves to the table that it filters.
        SemiJoinPushdown = "semi-join pushdown",
        /// What is constant is computed once.
        FoldConstants = "fold constants",
        /// What all terms of an OR share is taken out of it.
        FactorOr = "factor OR",
        /// Predicates move to where the fewest rows meet them.
        PredicatePushdown = "predicate pushdown",
        /// A predicate that loses the NULLs of an outer join makes it an inner one.
        OuterToInnerJoin = "outer to inner join",
        /// An outer join of which only rows without a match are kept becomes an anti join.
        OuterToAntiJoin = "outer join to anti join",
        /// Predicates on columns that a recursion carries along move into it.
        PushdownIntoRecursion = "predicate pushdown into recursion",
        /// Predicates follow from equalities (transitive closure).
        InferPredicates = "infer predicates",
        /// A join that neither adds nor loses rows goes.
        EliminateJoin = "eliminate join",
        /// Predicates that say the same, or exclude each other, become one.
        SimplifyPredicates = "simplify predicates",
        /// Queries of UNION ALL that read a table for distinct values of a column become one.
        UnionToIn = "union all to IN",
        /// A join that only says which rows stay becomes a semi join.
        JoinToSemiJoin = "join to semi join",
        /// A table joined with groups of its own rows is read once (Zuzarte et al., SIGMOD 2003).
        AggregateJoinToWindow = "aggregate join to window",
        /// Only rows whose group is joined are grouped (Bernstein & Chiu, JACM 1981).
        SemiJoinReduction = "semi-join reduction",
        /// DISTINCT over unique rows goes.
        EliminateDistinct = "eliminate distinct",
        /// An order that nobody sees goes.
        EliminateSort = "eliminate sort",
        /// FETCH moves below what keeps the number of rows.
        LimitPushdown = "limit pushdown",
        /// What is computed twice is computed once.
        EliminateCommonSubexpressions = "common subexpression elimination",
        /// Rows are grouped before a join (Yan & Larson, VLDB 1995).
        EagerAggregation = "eager aggregation",
    }
}
