package definition

import (
	"reflect"
	"slices"
	"strconv"
	"strings"
)

// fromDefault is the origin of what the standard says where all sources are silent.
const fromDefault = "default"

// origins carry, while sources are merged, where each value came from: by the property, and
// by the member of an object, or the item of a list as itemKey names it.
type origins map[origin]string

type origin struct{ property, key string }

// note says where a value comes from; of several sources the last one counts.
func (o origins) note(property, key, from string) { o[origin{property, key}] = from }

// noteFirst is for what counts once: of several sources the first one counts.
func (o origins) noteFirst(property, key, from string) {
	if _, known := o[origin{property, key}]; !known {
		o.note(property, key, from)
	}
}

// of tells where a value came from, or the property that it is in.
func (o origins) of(property, key string) string {
	for _, at := range []origin{{property, key}, {property, ""}} {
		if from, known := o[at]; known {
			return from
		}
	}
	return fromDefault
}

// pointers tells of each value of a merged configuration, by JSON pointer, where it came from.
// Objects whose members are merged one by one, and lists, are told member by member; commands
// say so themselves.
func (o origins) pointers(e *Effective) map[string]string {
	out := map[string]string{}
	each(reflect.ValueOf(e).Elem(), func(name string, v reflect.Value) {
		at := pointer("", name)
		switch {
		case name == "initializeCommand" || slices.Contains(Lifecycle, name):
		case v.Kind() == reflect.Slice:
			for i := range v.Len() {
				out[pointer(at, i)] = o.of(name, itemKey(v.Index(i), i))
			}
		case v.Kind() == reflect.Map:
			for _, key := range v.MapKeys() {
				out[pointer(at, key.String())] = o.of(name, key.String())
			}
		case v.Kind() == reflect.Struct && name != "build" && name != "workspaceMount":
			each(v, func(member string, _ reflect.Value) { out[pointer(at, member)] = o.of(name, member) })
		default:
			out[at] = o.of(name, "")
		}
	})
	return out
}

// each calls f with the properties of a struct that would be written, by their names.
func each(v reflect.Value, f func(name string, v reflect.Value)) {
	for i := range v.NumField() {
		name, options, _ := strings.Cut(v.Type().Field(i).Tag.Get("json"), ",")
		field := v.Field(i)
		if name == "" || name == "-" || options == "omitempty" && field.IsZero() {
			continue
		}
		for field.Kind() == reflect.Pointer && !field.IsNil() && field.Type() != reflect.TypeFor[*bool]() || field.Kind() == reflect.Interface && !field.IsNil() {
			field = field.Elem()
		}
		f(name, field)
	}
}

// itemKey names an item of a list: what tells it from others where lists are joined.
func itemKey(item reflect.Value, i int) string {
	switch x := item.Interface().(type) {
	case string:
		return x
	case Port:
		return x.String()
	case Mount:
		return x.Target
	}
	return strconv.Itoa(i)
}
