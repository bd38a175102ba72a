package view

import (
	"encoding/json"
	"io"
	"reflect"

	"nimbleharbor/internal/value"
)

// JSON writes a contract: lists and maps that hold nothing are written as such, never as null.
func JSON(w io.Writer, v any) error {
	e := json.NewEncoder(escaped{w})
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(filled(reflect.ValueOf(v), value.Hide).Interface())
}

// JSONRevealed writes a contract with the secrets in it, since a person has asked for them.
func JSONRevealed(w io.Writer, v any) error {
	e := json.NewEncoder(escaped{w})
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(filled(reflect.ValueOf(v), func(s string) string { return s }).Interface())
}

// JSONLine writes a contract on one line.
func JSONLine(w io.Writer, v any) error {
	e := json.NewEncoder(escaped{w})
	e.SetEscapeHTML(false)
	return e.Encode(filled(reflect.ValueOf(v), value.Hide).Interface())
}

// filled copies a value with empty lists and maps in the place of nil ones, and each text as it can
// be shown.
func filled(v reflect.Value, text func(string) string) reflect.Value {
	if !v.IsValid() {
		return reflect.ValueOf(struct{}{})
	}
	if _, ok := v.Interface().(json.Marshaler); ok {
		return v
	}
	switch v.Kind() {
	case reflect.String:
		shown := text(v.String())
		if shown == v.String() {
			return v
		}
		out := reflect.New(v.Type()).Elem()
		out.SetString(shown)
		return out
	case reflect.Interface:
		if v.IsNil() {
			return v
		}
		out := reflect.New(v.Type()).Elem()
		out.Set(filled(v.Elem(), text))
		return out
	case reflect.Pointer:
		if v.IsNil() {
			return v
		}
		out := reflect.New(v.Type().Elem())
		out.Elem().Set(filled(v.Elem(), text))
		return out
	case reflect.Struct:
		out := reflect.New(v.Type()).Elem()
		out.Set(v)
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				out.Field(i).Set(filled(v.Field(i), text))
			}
		}
		return out
	case reflect.Slice:
		out := reflect.MakeSlice(v.Type(), v.Len(), v.Len())
		for i := range v.Len() {
			out.Index(i).Set(filled(v.Index(i), text))
		}
		return out
	case reflect.Map:
		out := reflect.MakeMapWithSize(v.Type(), v.Len())
		for _, k := range v.MapKeys() {
			out.SetMapIndex(k, filled(v.MapIndex(k), text))
		}
		return out
	}
	return v
}
