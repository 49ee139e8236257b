package format

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"
)

// readSerialised reads what PHP's serialize writes (PHP manual, serialize). Paths: key.key, for arrays and for
// the properties of objects; a value alone is at "".
func readSerialised(d *Document) error {
	s := &serialReader{d: d}
	if err := s.value("", 0); err != nil {
		return err
	}
	if len(bytes.TrimSpace(d.data[s.at:])) > 0 {
		return d.errorAt(s.at, "the end is expected here")
	}
	return nil
}

type serialReader struct {
	d  *Document
	at int
}

func (s *serialReader) fail(says string) error { return s.d.errorAt(s.at, says) }

// until takes what stands before the next mark, and passes over it.
func (s *serialReader) until(mark byte) (string, error) {
	i := bytes.IndexByte(s.d.data[s.at:], mark)
	if i < 0 {
		return "", s.fail(fmt.Sprintf("a %q is expected here", mark))
	}
	text := string(s.d.data[s.at : s.at+i])
	s.at += i + 1
	return text, nil
}

func (s *serialReader) expect(text string) error {
	if !bytes.HasPrefix(s.d.data[s.at:], []byte(text)) {
		return s.fail(fmt.Sprintf("%q is expected here", text))
	}
	s.at += len(text)
	return nil
}

// text reads :length:"..." by its length in bytes.
func (s *serialReader) text() (string, error) {
	length, err := s.count()
	if err != nil {
		return "", err
	}
	if err := s.expect(`"`); err != nil {
		return "", err
	}
	if length > len(s.d.data)-s.at {
		return "", s.fail("the text is shorter than it says")
	}
	text := string(s.d.data[s.at : s.at+length])
	s.at += length
	return text, s.expect(`"`)
}

func (s *serialReader) count() (int, error) {
	digits, err := s.until(':')
	if err != nil {
		return 0, err
	}
	n, err := strconv.Atoi(digits)
	if err != nil || n < 0 || n > MaxBytes {
		return 0, s.fail("a length is expected here")
	}
	return n, nil
}

func (s *serialReader) value(path string, depth int) error {
	start := s.at
	if depth > maxDepth || start+2 > len(s.d.data) {
		return s.fail("a value is expected here")
	}
	kind := s.d.data[start]
	s.at += 2
	if kind != 'N' && s.d.data[start+1] != ':' {
		s.at = start
		return s.fail("a value is expected here")
	}
	switch kind {
	case 'N':
		s.at = start + 1
		if err := s.expect(";"); err != nil {
			return err
		}
		s.d.place(path, nil, start, s.at)
		return nil
	case 'b', 'i', 'd':
		text, err := s.until(';')
		if err != nil {
			return err
		}
		var value any = number(text)
		if kind == 'b' {
			value = text == "1"
		} else if _, err := strconv.ParseFloat(strings.Replace(text, "INF", "Inf", 1), 64); err != nil {
			return s.fail("a number is expected here")
		}
		s.d.place(path, value, start, s.at)
		return nil
	case 's':
		text, err := s.text()
		if err == nil {
			err = s.expect(";")
		}
		if err != nil {
			return err
		}
		s.d.place(path, text, start, s.at)
		return nil
	case 'O':
		if _, err := s.text(); err != nil {
			return err
		}
		if err := s.expect(":"); err != nil {
			return err
		}
		return s.items(path, start, depth)
	case 'a':
		return s.items(path, start, depth)
	case 'R', 'r':
		_, err := s.until(';')
		s.d.mention(path, nil, start, "it refers to another value")
		return err
	}
	s.at = start
	return s.fail("a value is expected here")
}

func (s *serialReader) items(path string, start, depth int) error {
	n, err := s.count()
	if err == nil {
		err = s.expect("{")
	}
	if err != nil {
		return err
	}
	s.d.mention(path, nil, start, "it holds other values")
	list, isList := []any{}, true
	for i := range n {
		key, err := s.key()
		if err != nil {
			return err
		}
		isList = isList && key == strconv.Itoa(i)
		below := joinPath(path, key)
		if err := s.value(below, depth+1); err != nil {
			return err
		}
		if e := s.d.entries[below]; e.Unresolved == "" {
			list = append(list, e.Value)
		}
	}
	if err := s.expect("}"); err != nil {
		return err
	}
	line, column := position(s.d.data, start)
	e := Entry{Path: path, Line: line, Column: column, start: start, end: s.at, Unresolved: "it holds other values"}
	if isList && s.d.data[start] == 'a' {
		e.Value, e.Unresolved, e.placed = list, "", true
	}
	s.d.put(e)
	return nil
}

func (s *serialReader) key() (string, error) {
	switch {
	case s.expect("i:") == nil:
		return s.until(';')
	case s.expect("s:") == nil:
		text, err := s.text()
		if err == nil {
			err = s.expect(";")
		}
		// What is private or protected in an object is written as \0class\0name.
		return text[strings.LastIndexByte(text, 0)+1:], err
	}
	return "", s.fail("a key is expected here")
}

func spellSerialised(_ Entry, _ string, value any) (string, error) {
	switch v := value.(type) {
	case nil:
		return "N;", nil
	case bool:
		return fmt.Sprintf("b:%d;", map[bool]int{true: 1}[v]), nil
	case int64:
		return fmt.Sprintf("i:%d;", v), nil
	case float64:
		return "d:" + scalar(v) + ";", nil
	case string:
		return fmt.Sprintf(`s:%d:"%s";`, len(v), v), nil
	case []any:
		var b strings.Builder
		fmt.Fprintf(&b, "a:%d:{", len(v))
		for i, item := range v {
			text, err := spellSerialised(Entry{}, "", item)
			if err != nil {
				return "", err
			}
			fmt.Fprintf(&b, "i:%d;%s", i, text)
		}
		return b.String() + "}", nil
	}
	return "", ErrNoPlace
}

func addSerialised(d *Document, path string, value any) ([]edit, error) {
	text, err := spellSerialised(Entry{}, "", value)
	if err != nil {
		return nil, err
	}
	parent, key := splitPath(path)
	holder, there := d.entries[parent]
	if !there || holder.end == 0 || d.data[holder.start] != 'a' || path == parent {
		return nil, ErrNoPlace
	}
	open := holder.start + 2
	colon := open + bytes.IndexByte(d.data[open:], ':')
	n, err := strconv.Atoi(string(d.data[open:colon]))
	if err != nil {
		return nil, ErrNoPlace
	}
	name := fmt.Sprintf(`s:%d:"%s";`, len(key), key)
	if _, err := strconv.ParseInt(key, 10, 64); err == nil {
		name = "i:" + key + ";"
	}
	return []edit{{open, colon, strconv.Itoa(n + 1)}, {holder.end - 1, holder.end - 1, name + text}}, nil
}
