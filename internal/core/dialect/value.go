package dialect

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/url"
	"slices"
	"strings"

	"calmpigeon.example/internal/core/document"
	"golang.org/x/text/encoding/charmap"
)

// bodyValue makes one JSON value of a body. JSON is what it is. A form is an
// object; a field that comes several times has its values joined by commas. Of
// XML an element with text alone is a string, any other an object: its
// attributes under "@name", its children under their names, those that come
// several times as a list, and its own text under "#text"; name spaces are left
// out. All else is a string.
func bodyValue(contentType string, body []byte) any {
	if strings.HasPrefix(contentType, "application/x-www-form-urlencoded") {
		if form, err := url.ParseQuery(string(body)); err == nil {
			return valuesObject(form)
		}
	}
	if strings.Contains(contentType, "xml") && !strings.Contains(contentType, "html") ||
		bytes.HasPrefix(bytes.TrimSpace(body), []byte("<?xml")) {
		if value, err := readXML(body); err == nil {
			return value
		}
	}
	if document.CheckNesting(body) == nil {
		decoder := json.NewDecoder(bytes.NewReader(body))
		decoder.UseNumber()
		var value any
		if err := decoder.Decode(&value); err == nil {
			if _, err := decoder.Token(); err == io.EOF { // nothing may follow the value
				return plain(value)
			}
		}
	}
	return strings.ToValidUTF8(string(body), "\uFFFD")
}

func valuesObject(values url.Values) map[string]any {
	object := map[string]any{}
	for name, all := range values {
		object[strings.ToValidUTF8(name, "\uFFFD")] = strings.ToValidUTF8(strings.Join(all, ","), "\uFFFD")
	}
	return object
}

func readXML(body []byte) (any, error) {
	decoder := xml.NewDecoder(bytes.NewReader(body))
	decoder.CharsetReader = func(charset string, in io.Reader) (io.Reader, error) {
		switch strings.ToLower(charset) {
		case "iso-8859-1", "latin1", "us-ascii":
			return charmap.ISO8859_1.NewDecoder().Reader(in), nil
		case "windows-1252":
			return charmap.Windows1252.NewDecoder().Reader(in), nil
		}
		return nil, fmt.Errorf("charset %q is not known", charset)
	}
	for {
		token, err := decoder.Token()
		if err != nil {
			return nil, err
		}
		if start, ok := token.(xml.StartElement); ok {
			value, err := readElement(decoder, start, 1)
			return map[string]any{start.Name.Local: value}, err
		}
	}
}

func readElement(decoder *xml.Decoder, start xml.StartElement, depth int) (any, error) {
	if depth > document.NestedMost {
		return nil, errors.New("the XML is nested too deep")
	}
	object := map[string]any{}
	for _, attribute := range start.Attr {
		if attribute.Name.Space != "xmlns" && attribute.Name.Local != "xmlns" {
			object["@"+attribute.Name.Local] = attribute.Value
		}
	}
	several := map[string]bool{}
	var text strings.Builder
	for {
		token, err := decoder.Token()
		if err != nil {
			return nil, err
		}
		switch t := token.(type) {
		case xml.CharData:
			text.Write(t)
		case xml.StartElement:
			child, err := readElement(decoder, t, depth+1)
			if err != nil {
				return nil, err
			}
			name := t.Name.Local
			prior, seen := object[name]
			switch {
			case !seen:
				object[name] = child
			case several[name]:
				object[name] = append(prior.([]any), child)
			default:
				object[name], several[name] = []any{prior, child}, true
			}
		case xml.EndElement:
			own := strings.TrimSpace(text.String())
			if len(object) == 0 {
				return own, nil
			}
			if own != "" {
				object["#text"] = own
			}
			return object, nil
		}
	}
}

// writeXML writes what [bodyValue] would read: an object of one element.
func writeXML(value any) ([]byte, error) {
	root, ok := value.(map[string]any)
	if !ok || len(root) != 1 {
		return nil, errors.New("expected an object of one element")
	}
	var out bytes.Buffer
	out.WriteString(xml.Header)
	for name, child := range root {
		if _, ok := child.([]any); ok {
			return nil, errors.New("expected one element, found a list")
		}
		if err := writeElement(&out, name, child); err != nil {
			return nil, err
		}
	}
	return out.Bytes(), nil
}

func writeElement(out *bytes.Buffer, name string, value any) error {
	if name == "" || strings.ContainsAny(name, "<>&\"'= \t\r\n/") {
		return fmt.Errorf("%q is no name of an element", name)
	}
	if list, ok := value.([]any); ok {
		for _, item := range list {
			if err := writeElement(out, name, item); err != nil {
				return err
			}
		}
		return nil
	}
	object, ok := value.(map[string]any)
	if !ok {
		object = map[string]any{"#text": value}
	}
	names := slices.Sorted(maps.Keys(object))
	out.WriteString("<" + name)
	for _, n := range names {
		attribute, ok := strings.CutPrefix(n, "@")
		if !ok || object[n] == nil {
			continue
		}
		w, err := scalar(object[n])
		if err != nil {
			return err
		}
		out.WriteString(" " + attribute + `="`)
		xml.EscapeText(out, []byte(w))
		out.WriteByte('"')
	}
	out.WriteByte('>')
	for _, n := range names {
		switch {
		case strings.HasPrefix(n, "@") || object[n] == nil:
		case n == "#text":
			w, err := scalar(object[n])
			if err != nil {
				return err
			}
			xml.EscapeText(out, []byte(w))
		default:
			if err := writeElement(out, n, object[n]); err != nil {
				return err
			}
		}
	}
	out.WriteString("</" + name + ">")
	return nil
}
