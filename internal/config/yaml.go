package config

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"reflect"
	"slices"
	"strings"

	"gopkg.in/yaml.v3"
)

// Wrong is what is wrong in a file, and where.
type Wrong struct {
	File         string
	Line, Column int
	Message      string
}

func (w Wrong) Error() string {
	return fmt.Sprintf("%s:%d:%d: %s", w.File, w.Line, w.Column, w.Message)
}

// Parse reads the documents of a file. All that is wrong is told at once.
func Parse(file string, content []byte) (Documents, []Wrong) {
	p := parser{file: file}
	decoder := yaml.NewDecoder(bytes.NewReader(content))
	for {
		var node yaml.Node
		err := decoder.Decode(&node)
		if errors.Is(err, io.EOF) {
			return p.found, p.wrong
		}
		if err != nil {
			line := 1
			fmt.Sscanf(strings.TrimPrefix(err.Error(), "yaml: "), "line %d", &line)
			p.fail(&yaml.Node{Line: line, Column: 1}, "this is no YAML: %s", strings.TrimPrefix(err.Error(), "yaml: "))
			return p.found, p.wrong
		}
		if len(node.Content) == 1 && node.Content[0].Tag != "!!null" {
			p.document(node.Content[0])
		}
	}
}

type parser struct {
	file  string
	found Documents
	wrong []Wrong
}

func (p *parser) fail(at *yaml.Node, format string, args ...any) {
	p.wrong = append(p.wrong, Wrong{p.file, at.Line, at.Column, fmt.Sprintf(format, args...)})
}

func (p *parser) document(node *yaml.Node) {
	if node.Kind != yaml.MappingNode {
		p.fail(node, "a document is a list of key: value, beginning with its kind")
		return
	}
	var names []string
	for _, k := range kinds {
		names = append(names, k.name)
	}
	kind := ""
	for i := 0; i+1 < len(node.Content); i += 2 {
		if node.Content[i].Value == "kind" {
			kind = node.Content[i+1].Value
			if !slices.Contains(names, kind) {
				p.fail(node.Content[i+1], "kind %q is not known; there are %s", kind, strings.Join(names, ", "))
				return
			}
		}
	}
	for _, k := range kinds {
		if k.name == kind {
			p.fill(node, kind, reflect.New(k.kind).Elem())
			return
		}
	}
	p.fail(node, "it has no kind; there are %s", strings.Join(names, ", "))
}

// fill reads the keys of a document into a fresh value.
func (p *parser) fill(node *yaml.Node, kind string, v reflect.Value) {
	before := len(p.wrong)
	if m, is := v.Addr().Interface().(*WrittenMonitor); is {
		m.Settings = defaults
	}
	if c, is := v.Addr().Interface().(*WrittenComparison); is {
		c.Period = "week"
	}
	p.keys(node, kind, v)
	if len(p.wrong) == before {
		p.found.add(v.Interface())
	}
}

// keys reads the keys of a mapping into a value's members.
func (p *parser) keys(node *yaml.Node, kind string, v reflect.Value) {
	if node.Kind != yaml.MappingNode {
		p.fail(node, "a %s is a list of key: value", kind)
		return
	}
	fields := fieldsOf(v.Type())
	seen := map[string]bool{}
	for i := 0; i+1 < len(node.Content); i += 2 {
		key, value := node.Content[i], node.Content[i+1]
		at := slices.IndexFunc(fields, func(f field) bool { return f.key == key.Value })
		switch {
		case key.Value == "kind":
		case at < 0:
			var keys []string
			for _, f := range fields {
				keys = append(keys, f.key)
			}
			p.fail(key, "a %s has no %q; it has %s", kind, key.Value, strings.Join(keys, ", "))
		case seen[key.Value]:
			p.fail(key, "%s is said twice", key.Value)
		default:
			p.value(fields[at], value, v.FieldByIndex(fields[at].index))
		}
		seen[key.Value] = true
	}
	for _, f := range fields {
		if !f.optional && !seen[f.key] {
			p.fail(node, "this %s lacks %s", kind, f.key)
		}
	}
}

func (p *parser) value(f field, node *yaml.Node, into reflect.Value) {
	if f.duration {
		seconds, err := parseDuration(node.Value)
		if err != nil {
			p.fail(node, "%s: %v", f.key, err)
			return
		}
		if into.Kind() == reflect.Pointer { // zero is not the same as left out
			into.Set(reflect.ValueOf(&seconds))
			return
		}
		into.SetInt(seconds)
		return
	}
	if f.parts() {
		if node.Kind != yaml.SequenceNode {
			p.fail(node, "%s: it is a list, each with its own key: value", f.key)
			return
		}
		for _, item := range node.Content {
			part := reflect.New(f.kind.Elem()).Elem()
			p.keys(item, strings.TrimSuffix(f.key, "s"), part)
			into.Set(reflect.Append(into, part))
		}
		return
	}
	if err := node.Decode(into.Addr().Interface()); err != nil {
		p.fail(node, "%s: %q is not %s", f.key, node.Value, called(f.kind))
		return
	}
	if len(f.enum) > 0 && !slices.Contains(f.enum, fmt.Sprint(into.Interface())) {
		p.fail(node, "%s: %q is not among %s", f.key, node.Value, strings.Join(f.enum, ", "))
	}
}

func called(t reflect.Type) string {
	switch t.Kind() {
	case reflect.Bool:
		return "true or false"
	case reflect.Int, reflect.Int64, reflect.Uint64:
		return "a whole number"
	case reflect.Float64, reflect.Pointer:
		return "a number"
	case reflect.Slice:
		return "a list: [a, b]"
	}
	return "text"
}

// mapping is a value as a mapping of its members that are not empty.
func mapping(v reflect.Value) *yaml.Node {
	node := &yaml.Node{Kind: yaml.MappingNode}
	for _, f := range fieldsOf(v.Type()) {
		value := v.FieldByIndex(f.index)
		if empty(value) {
			continue
		}
		var encoded yaml.Node
		switch {
		case f.duration:
			encoded.SetString(duration(reflect.Indirect(value).Int()))
		case f.parts():
			encoded.Kind = yaml.SequenceNode
			for i := range value.Len() {
				encoded.Content = append(encoded.Content, mapping(value.Index(i)))
			}
		case encoded.Encode(value.Interface()) != nil:
			continue // text, numbers and lists of text can always be written
		case encoded.Kind == yaml.SequenceNode:
			encoded.Style = yaml.FlowStyle
		}
		node.Content = append(node.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: f.key}, &encoded)
	}
	return node
}

// Write writes documents as a file, one after another.
func Write(d Documents) []byte {
	var b bytes.Buffer
	d.each(func(kind, _ string, v reflect.Value) {
		if b.Len() > 0 {
			b.WriteString("---\n")
		}
		node := mapping(v)
		node.Content = append([]*yaml.Node{{Kind: yaml.ScalarNode, Value: "kind"}, {Kind: yaml.ScalarNode, Value: kind}}, node.Content...)
		out := yaml.NewEncoder(&b)
		out.SetIndent(2)
		out.Encode(node)
		out.Close()
	})
	return b.Bytes()
}
