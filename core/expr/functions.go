package expr

import (
	"regexp"
	"slices"
	"strings"
)

// functionNames are the functions and macros that documents may call, beside the aggregates of measures
// (docs/job-document.md, "Expressions").
var functionNames = []string{
	"abs", "all", "bool", "bytes", "charAt", "coalesce", "contains", "date", "day", "decimal", "double", "duration", "endsWith", "exists", "exists_one", "extract", "filter", "format",
	"getDate", "getDayOfWeek", "getDayOfYear", "getFullYear", "getHours", "getMilliseconds", "getMinutes", "getMonth", "getSeconds", "has", "hash", "hour", "indexOf", "int", "join",
	"lastIndexOf", "lowerAscii", "map", "matches", "math.abs", "math.ceil", "math.floor", "math.greatest", "math.isInf", "math.isNaN", "math.least", "math.round", "math.sign", "math.sqrt", "math.trunc",
	"minute", "month", "parse_time", "quarter", "replace", "reverse", "round", "second", "size", "split", "startsWith", "string", "substring", "timestamp", "trim", "truncate", "upperAscii", "week", "year",
}

// otherNames are names that functions have elsewhere, by ours.
var otherNames = map[string]string{
	"avg": "mean", "average": "mean", "std": "stddev", "stdev": "stddev", "var": "variance", "percentile": "quantile", "distinct": "count_distinct", "mode": "most_common", "top": "largest",
	"lower": "lowerAscii", "tolower": "lowerAscii", "upper": "upperAscii", "toupper": "upperAscii", "len": "size", "length": "size", "substr": "substring", "strip": "trim",
	"concat": "join", "any": "exists", "some": "exists", "ifnull": "coalesce", "nvl": "coalesce", "cast": "string", "str": "string", "float": "double", "tonumber": "double", "date_trunc": "truncate", "trunc": "truncate",
	"floor": "math.floor", "ceil": "math.ceil", "ceiling": "math.ceil", "sqrt": "math.sqrt", "greatest": "math.greatest", "least": "math.least", "regexp": "matches", "strftime": "format", "strptime": "parse_time",
}

// FunctionNames lists what an expression may call; a measure the aggregates too.
func FunctionNames(measure bool) []string {
	out := slices.Clone(functionNames)
	if measure {
		out = append(out, AggregateNames...)
	}
	slices.Sort(out)
	return out
}

// OtherName gives our name for a function that is called otherwise elsewhere; empty where none is known, or where it
// is an aggregate and the expression no measure.
func OtherName(name string, measure bool) string {
	ours := otherNames[strings.ToLower(name)]
	if !measure && slices.Contains(AggregateNames, ours) {
		return ""
	}
	return ours
}

// calls says whether a text calls something of this name.
func calls(text, name string) bool {
	return regexp.MustCompile(`\b` + regexp.QuoteMeta(name) + `\s*\(`).MatchString(text)
}
