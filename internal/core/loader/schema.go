package loader

import (
	"encoding"
	"encoding/json"
	"reflect"
	"slices"
	"strings"

	"polytome/internal/core/title"
	"polytome/internal/format/dump"
	"polytome/internal/target"
)

// Schemas are the kinds of files that there is a schema of.
var Schemas = []string{"profile", "platform"}

// words are those that a key may have, by the table that it is in.
var words = map[string][]string{
	"Profile.list-order": orderWords, "Attachment.via": Connections, "Attachment.partition-table": tableWords,
	"Attachment.count": countWords, "Attachment.case": caseWords, "Server.listing": listingWords,
	"Scope.forms": formNames(), "Scope.filesystems": target.FilesystemNames(), "Accept.archives": archiveWords,
	"Accept.dumps": dumpWords, "Accept.numbers": numberWords, "Join.of": joinWords, "Dump.order": dump.Orders,
	"TooLarge.do": tooLargeWords, "TitleRule.count": countWords, "Companion.is": isWords,
	"Companion.per": perWords, "List.per": perWords, "Companion.syntax": syntaxWords, "Companion.make": textMakes,
	"Companion.encoding": textEncodings,
	"Picture.of":         pictureWords,
	"Picture.format":     formatWords, "Picture.fit": fitWords, "List.make": listMakes, "List.encoding": textEncodings,
	"List.order": orderWords, "RecordField.encoding": encodingWords, "Setting.syntax": syntaxWords,
	"WayOut.when": verdictWords, "DiscRule.media": Media, "DiscRule.finish": finishWords,
	"SaveRule.made-by": makerWords, "SaveLink.syntax": syntaxWords, "Example.form": formNames(),
	"Platform.forms": formNames(), "Marker.syntax": markerSyntax, "Marker.encoding": textEncodings,
	"Reading.encoding": Encodings, "Reading.syntax": markerSyntax, "Reading.of": FieldNames,
	"HeaderCheck.is": checkWords, "HeaderCheck.order": byteOrders, "InnerPicture.of": title.PictureKinds,
}

// Schema is a JSON Schema (draft 2020-12) of profiles or platforms, for editors: every key with its type, and the words
// that it may have. What keys mean together is checked by [ParseProfile] and [ParsePlatform] alone.
func Schema(kind string) ([]byte, error) {
	of := reflect.TypeFor[Profile]()
	required := []string{"format", "name", "shown", "attachment", "accept"}
	if kind == "platform" {
		of, required = reflect.TypeFor[Platform](), []string{"format", "name", "shown", "forms"}
	}
	tables := map[string]any{}
	s := schemaOf(of, tables)
	whole := tables[of.Name()].(map[string]any)
	whole["required"] = required
	whole["properties"].(map[string]any)["format"] = map[string]any{"const": FormatVersion}
	return json.MarshalIndent(map[string]any{"$schema": "https://json-schema.org/draft/2020-12/schema",
		"title": "Polytome " + kind, "$ref": s["$ref"], "$defs": tables}, "", "  ")
}

var textType = reflect.TypeFor[encoding.TextUnmarshaler]()

// schemaOf is the schema of a value; those of tables are put beside.
func schemaOf(t reflect.Type, tables map[string]any) map[string]any {
	if t == reflect.TypeFor[Size]() {
		return map[string]any{"type": []string{"integer", "string"}}
	}
	if t.Implements(textType) || reflect.PointerTo(t).Implements(textType) {
		return map[string]any{"type": "string"}
	}
	switch t.Kind() {
	case reflect.Pointer:
		return schemaOf(t.Elem(), tables)
	case reflect.Slice:
		return map[string]any{"type": "array", "items": schemaOf(t.Elem(), tables)}
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": schemaOf(t.Elem(), tables)}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Int, reflect.Int64:
		return map[string]any{"type": "integer"}
	case reflect.Struct:
		if _, known := tables[t.Name()]; !known {
			properties := map[string]any{}
			tables[t.Name()] = map[string]any{"type": "object", "additionalProperties": false, "properties": properties}
			for _, f := range reflect.VisibleFields(t) {
				name, _, _ := strings.Cut(f.Tag.Get("toml"), ",")
				if name == "" || name == "-" {
					continue
				}
				properties[name] = withWords(schemaOf(f.Type, tables), ownerOf(t, f), name)
			}
		}
		return map[string]any{"$ref": "#/$defs/" + t.Name()}
	}
	return map[string]any{"type": "string"}
}

// ownerOf is the table that a field is declared in, which may be one that another has in it.
func ownerOf(t reflect.Type, f reflect.StructField) string {
	if len(f.Index) > 1 {
		return t.FieldByIndex(f.Index[:len(f.Index)-1]).Type.Name()
	}
	return t.Name()
}

// withWords adds the words that a key, or each value of its list, may have.
func withWords(s map[string]any, table, key string) map[string]any {
	all := words[table+"."+key]
	if all == nil {
		return s
	}
	all = slices.Sorted(slices.Values(all))
	if s["type"] == "array" {
		s["items"] = map[string]any{"enum": all}
		return s
	}
	return map[string]any{"enum": all}
}
