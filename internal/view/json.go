package view

import (
	"encoding/json"
	"io"
	"reflect"
)

// JSON writes a contract: lists and maps that hold nothing are written as such, never as null.
func JSON(w io.Writer, v any) error {
	e := json.NewEncoder(escaped{w})
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(filled(reflect.ValueOf(v)).Interface())
}

// JSONLine writes a contract on one line.
func JSONLine(w io.Writer, v any) error {
	e := json.NewEncoder(escaped{w})
	e.SetEscapeHTML(false)
	return e.Encode(filled(reflect.ValueOf(v)).Interface())
}

// filled copies a value with empty lists and maps in the place of nil ones.
func filled(v reflect.Value) reflect.Value {
	if !v.IsValid() {
		return reflect.ValueOf(struct{}{})
	}
	if _, ok := v.Interface().(json.Marshaler); ok {
		return v
	}
	switch v.Kind() {
	case reflect.Pointer:
		if v.IsNil() {
			return v
		}
		out := reflect.New(v.Type().Elem())
		out.Elem().Set(filled(v.Elem()))
		return out
	case reflect.Struct:
		out := reflect.New(v.Type()).Elem()
		out.Set(v)
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				out.Field(i).Set(filled(v.Field(i)))
			}
		}
		return out
	case reflect.Slice:
		out := reflect.MakeSlice(v.Type(), v.Len(), v.Len())
		for i := range v.Len() {
			out.Index(i).Set(filled(v.Index(i)))
		}
		return out
	case reflect.Map:
		out := reflect.MakeMapWithSize(v.Type(), v.Len())
		for _, k := range v.MapKeys() {
			out.SetMapIndex(k, filled(v.MapIndex(k)))
		}
		return out
	}
	return v
}
