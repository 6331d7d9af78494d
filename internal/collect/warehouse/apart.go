package warehouse

import (
	"fmt"
	"regexp"
	"strings"

	"tinbell/internal/record"
)

// Parts are what the figure of a whole is made of: a sum over rows, or one divided by
// another. Both are SQL aggregates that add up over groups.
type Parts struct {
	Value  string // what is summed
	Rows   string // what it is divided by; of a sum, the rows
	Ratio  bool
	Counts bool // both count rows: a share
}

// Apart takes a metric's figure apart.
//
// An expression of a person's own is taken apart where it is a sum, a count or a mean,
// or such terms added, or divided by one another, with numbers for factors and casts
// and guards (nullif, coalesce, round) around them. What is not, such as a count of
// different values, is ErrNotAdditive.
func Apart(m record.Metric) (Parts, error) {
	column := name(m.Column)
	switch m.Measure {
	case record.MeasureRows, record.MeasureFreshness:
		return Parts{Value: "0", Rows: "count(*)", Counts: true}, nil
	case record.MeasureNullShare:
		return Parts{Value: "count(*) filter (where " + column + " is null)", Rows: "count(*)", Ratio: true, Counts: true}, nil
	case record.MeasureValueShare:
		return Parts{Value: fmt.Sprintf("count(*) filter (where %s::text = %s)", column, literal(m.Matches)), Rows: "count(*)",
			Ratio: true, Counts: true}, nil
	case record.MeasureSum:
		return Parts{Value: "coalesce(sum(" + column + "), 0)", Rows: "count(" + column + ")"}, nil
	case record.MeasureMean, record.MeasureQuantile, record.MeasureMin, record.MeasureMax, record.MeasureSD:
		return Parts{Value: "coalesce(sum(" + column + "), 0)", Rows: "count(" + column + ")", Ratio: true}, nil
	case record.MeasureExpression:
		if checkMetric(m) != nil {
			return Parts{}, ErrNotAdditive
		}
		return divided(m.Expression)
	}
	return Parts{}, ErrNotAdditive
}

var (
	numeral   = regexp.MustCompile(`^[0-9]+(\.[0-9]*)?$`)
	cast      = regexp.MustCompile(`(?is)^(.*[^:])::\s*[a-z][a-z0-9 ]*(\(\s*\d+\s*(,\s*\d+\s*)?\))?$`)
	called    = regexp.MustCompile(`(?is)^([a-z_]+)\s*(\(.*)$`)
	filters   = regexp.MustCompile(`(?is)^filter\s*\(`)
	different = regexp.MustCompile(`(?i)^distinct\b`)
)

// divided takes an expression apart at the operator that is applied last.
func divided(expression string) (Parts, error) {
	expression = bare(expression)
	if left, right, sign := cut(expression, "+-"); sign == '-' && numeral.MatchString(bare(left)) { // 1 - a / b
		p, err := divided(right)
		if err == nil && !p.Ratio {
			err = ErrNotAdditive
		}
		p.Value = fmt.Sprintf("%s * (%s) - (%s)", bare(left), p.Rows, p.Value)
		return p, err
	} else if sign != 0 {
		return added(expression)
	}
	switch left, right, sign := cut(expression, "*/"); {
	case sign == '*' && numeral.MatchString(bare(left)):
		return scaled(right, left, "*")
	case sign != 0 && numeral.MatchString(bare(right)):
		return scaled(left, right, string(sign))
	case sign == '/':
		value, rows := summed(left), summed(right)
		if value == "" || rows == "" {
			return Parts{}, ErrNotAdditive
		}
		return Parts{Value: value, Rows: rows, Ratio: true, Counts: counts(left) && counts(right)}, nil
	}
	if of, inner, rest := call(expression); of == "avg" && !different.MatchString(inner) {
		return Parts{Value: "coalesce(sum(" + inner + ")" + rest + ", 0)", Rows: "count(" + inner + ")" + rest, Ratio: true}, nil
	}
	return added(expression)
}

func added(expression string) (Parts, error) {
	v := summed(expression)
	if v == "" {
		return Parts{}, ErrNotAdditive
	}
	return Parts{Value: v, Rows: "count(*)"}, nil
}

// scaled takes apart what is multiplied or divided by a number.
func scaled(expression, factor, sign string) (Parts, error) {
	p, err := divided(expression)
	p.Value, p.Counts = fmt.Sprintf("(%s) %s %s::float8", p.Value, sign, bare(factor)), false
	return p, err
}

// summed is an expression that adds up over groups, with nothing for no rows; empty
// where it does not.
func summed(expression string) string {
	expression = bare(expression)
	if left, right, sign := cut(expression, "+-"); sign != 0 {
		left, right = summed(left), summed(right)
		if left == "" || right == "" {
			return ""
		}
		return "(" + left + " " + string(sign) + " " + right + ")"
	}
	if left, right, sign := cut(expression, "*/"); sign != 0 {
		switch {
		case numeral.MatchString(bare(right)):
			return times(summed(left), sign, bare(right))
		case sign == '*' && numeral.MatchString(bare(left)):
			return times(summed(right), '*', bare(left))
		}
		return ""
	}
	if of, inner, rest := call(expression); (of == "sum" || of == "count") && !different.MatchString(inner) {
		return "coalesce(" + of + "(" + inner + ")" + rest + ", 0)::float8"
	}
	return ""
}

func times(sum string, sign byte, number string) string {
	if sum == "" {
		return ""
	}
	return "(" + sum + " " + string(sign) + " " + number + "::float8)"
}

// counts says that an expression is a count alone.
func counts(expression string) bool {
	of, inner, _ := call(bare(expression))
	return of == "count" && !different.MatchString(inner)
}

// bare is an expression without the brackets, casts and guards around it.
func bare(expression string) string {
	for {
		e := strings.TrimSpace(expression)
		if end := closing(e); end > 0 && end == len(e)-1 {
			expression = e[1:end]
			continue
		}
		if m := cast.FindStringSubmatch(e); m != nil && whole(m[1]) {
			expression = m[1]
			continue
		}
		if of, inner, rest := call(e); rest == "" && (of == "nullif" || of == "coalesce" || of == "round") {
			expression = first(inner)
			continue
		}
		return e
	}
}

// whole says that a text is one term: a cast binds tighter than any operator.
func whole(e string) bool {
	_, _, sign := cut(strings.TrimSpace(e), "+-*/")
	return sign == 0
}

// call takes a call of a function apart: its name, what is in its brackets, and a
// filter that follows. Empty where the expression is something else.
func call(e string) (of, inner, rest string) {
	m := called.FindStringSubmatch(e)
	if m == nil {
		return "", "", ""
	}
	end := closing(m[2])
	if end < 0 {
		return "", "", ""
	}
	rest = strings.TrimSpace(m[2][end+1:])
	if rest != "" {
		at := filters.FindStringIndex(rest)
		if at == nil || closing(rest[at[1]-1:]) != len(rest)-at[1] {
			return "", "", ""
		}
		rest = " " + rest
	}
	return strings.ToLower(m[1]), strings.TrimSpace(m[2][1:end]), rest
}

// closing is where the bracket that a text begins with is closed; -1 if it begins with
// none, or it is not.
func closing(e string) int {
	if !strings.HasPrefix(e, "(") {
		return -1
	}
	found := -1
	outer(e, func(i, depth int) bool {
		if e[i] == ')' && depth == 0 {
			found = i
			return false
		}
		return true
	})
	return found
}

// cut parts an expression at the last of some signs outside all brackets and quotes, as
// operators of one rank are read from the left. The sign is 0 where there is none.
func cut(e, signs string) (left, right string, sign byte) {
	at := -1
	outer(e, func(i, depth int) bool {
		if depth == 0 && i > 0 && strings.IndexByte(signs, e[i]) >= 0 {
			at = i
		}
		return true
	})
	if at < 0 {
		return "", "", 0
	}
	return strings.TrimSpace(e[:at]), strings.TrimSpace(e[at+1:]), e[at]
}

// first is the first argument of some.
func first(arguments string) string {
	end := len(arguments)
	outer(arguments, func(i, depth int) bool {
		if depth == 0 && arguments[i] == ',' {
			end = i
			return false
		}
		return true
	})
	return arguments[:end]
}

// outer visits what of an expression is outside quotes, with the depth of brackets
// after each byte, until visit says false.
func outer(e string, visit func(i, depth int) bool) {
	depth := 0
	var quote byte
	for i := range len(e) {
		switch c := e[i]; {
		case quote != 0:
			if c == quote {
				quote = 0
			}
			continue
		case c == '\'' || c == '"':
			quote = c
			continue
		case c == '(':
			depth++
		case c == ')':
			depth--
		}
		if !visit(i, depth) {
			return
		}
	}
}
