package reading

import (
	"math"
	"strconv"
	"strings"
	"time"

	"ubiquon/internal/core/filter"
	"ubiquon/internal/core/invalidation"
	"ubiquon/internal/core/query"
	"ubiquon/internal/store/clause"
)

// filtered is the condition of a list's filter, "" without one. $1 to $3 are environment, edition and locale.
func filtered(environment string, root *query.Root, args *clause.Params) string {
	if root.Filter == nil {
		return ""
	}
	c := clause.Condition{Args: args, Environment: environment}
	return " and (" + c.Expr(root.Filter.Expr, "document") + ")"
}

// deadlineStatements find out how long the answers of filters that speak of now
// hold: until the next time that a property which they hold against now passes,
// of an entry for which that makes a difference; and by which entries.
func (rd *Reader) deadlineStatements(q *query.Query, res *query.Result) []statement {
	var out []statement
	for _, root := range q.Lists() {
		for _, held := range root.Filter.HeldAgainstNow() {
			for _, n := range held.Names {
				out = append(out, rd.deadlineStatement(q.Edition, root, held, n, res))
			}
		}
	}
	return out
}

func (rd *Reader) deadlineStatement(
	edition string, root *query.Root, held filter.TimeTrigger, n *filter.Name, res *query.Result,
) statement {
	args := clause.Params{rd.environment, edition, []string{root.Type}}
	c := clause.Condition{Args: &args, Bare: !strings.HasPrefix(n.Field, "about.")}
	value := c.Column(n, "document", true)
	where := " from document where environment = $1 and edition = $2 and type = any($3::text[]) and " + value +
		" > " + c.Operand(
		filter.Operand{Now: true}, "", true,
	)
	if len(n.Steps) > 0 {
		args[2] = n.Steps[len(n.Steps)-1].Types
	} else {
		where += " and (" + c.Expr(held.IfTrue, "document") + ") is distinct from (" +
			c.Expr(held.IfFalse, "document") + ")"
		if root.Locale != "" {
			where += " and locale = " + args.Add(root.Locale, "")
		}
		if root.Translated {
			where += " and about -> 'locales' ? locale"
		}
	}
	rest := " from (select 1) one left join (select entry, (" + value + ")::timestamptz as at" + where +
		" order by 2 limit " + strconv.Itoa(
		clause.MomentsKept,
	) + ") moment on true order by at"
	known := 0
	return statement{
		columns: "extract(epoch from at - now())::text, extract(epoch from at)::text, extract(epoch from now())::text, " +
			"entry",
		rest: rest,
		args: args,
		each: func(raw [][]byte) error {
			now, err := strconv.ParseFloat(string(raw[2]), 64)
			res.Now = time.UnixMicro(int64(math.Round(now * 1e6)))
			if raw[0] == nil || err != nil {
				return err
			}
			seconds, err := strconv.ParseFloat(string(raw[0]), 64)
			if err != nil {
				return err
			}
			epoch, err := strconv.ParseFloat(string(raw[1]), 64)
			at := time.UnixMicro(int64(math.Round(epoch * 1e6)))
			if span := time.Duration(seconds * float64(time.Second)); res.Good == 0 || span < res.Good {
				res.Good, res.Deadline = max(span, 1), at
			}
			one := invalidation.TimeTriggers{List: []invalidation.TimeTrigger{{At: at, Entry: string(raw[3])}}}
			if known++; known == clause.MomentsKept {
				one.Until = at
			}
			if len(n.Steps) > 0 {
				one.List[0].Entry = "" // it is not an entry of the list
			}
			if res.TimeTriggers == nil {
				res.TimeTriggers = map[*query.Root]invalidation.TimeTriggers{}
			}
			all := res.TimeTriggers[root]
			all.Add(one)
			res.TimeTriggers[root] = all
			return err
		},
	}
}
