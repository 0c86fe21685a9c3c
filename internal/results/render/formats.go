package render

import (
	"errors"
	"io"
	"strings"

	"obiter/internal/results/record"
)

// Format is something that a run is written as. All that is known of a format is here: help, the
// README and the documents are held against it.
type Format struct {
	Name    string   // as --as takes it
	Endings []string // of files, the usual one first
	Title   string   // what it is, in a few words
	Media   string   // media type
	Begins  string   // what the first bytes of such a file hold, and of no other
	Write   func(w io.Writer, run Run, more More) error
}

// More is what a Run does not hold, and some formats want.
type More struct {
	Exchanges func(each func(record.Result)) error // those of all results, in full, once more
	Logs      func() map[string][]string           // what the service logged of cases; after Exchanges
}

// Formats are all of them, in the order in which they are listed.
var Formats = []Format{
	{"html", []string{".html", ".htm"}, "a page that needs nothing else", "text/html", `<meta name="generator" content="Obiter">`, func(w io.Writer, run Run, more More) error {
		page := NewPage(run)
		err := more.Exchanges(page.Add)
		page.Logs(more.Logs())
		return errors.Join(err, page.Write(w))
	}},
	{"junit", []string{".xml"}, "JUnit XML", "application/xml", `<testsuites name="obiter: `, func(w io.Writer, run Run, _ More) error { return JUnit(w, run) }},
	{"sarif", []string{".sarif"}, "SARIF 2.1.0", "application/sarif+json", "\"driver\": {\n     \"name\": \"obiter\"", func(w io.Writer, run Run, _ More) error { return SARIF(w, run) }},
	{"markdown", []string{".md"}, "Markdown", "text/markdown", "<!-- Obiter -->", func(w io.Writer, run Run, _ More) error { return Markdown(w, run) }},
	{"har", []string{".har"}, "an HTTP archive of all exchanges", "application/json", `"creator":{"name":"obiter"`, func(w io.Writer, run Run, more More) error {
		archive := NewHAR(w, run)
		return errors.Join(more.Exchanges(archive.Add), archive.Close())
	}},
	{"json", []string{".json"}, "the outcome for other programs", "application/json", "{\n  \"obiter\": ", func(w io.Writer, run Run, _ More) error { return Outcome(w, run) }},
}

// FormatNames are the names of all formats.
func FormatNames() (out []string) {
	for _, f := range Formats {
		out = append(out, f.Name)
	}
	return out
}

// FormatOf is the format of a name, or of a file by its ending; false where there is none.
func FormatOf(name, file string) (Format, bool) {
	for _, f := range Formats {
		if f.Name == name {
			return f, true
		}
		for _, ending := range f.Endings {
			if name == "" && strings.HasSuffix(strings.ToLower(file), ending) {
				return f, true
			}
		}
	}
	return Format{}, false
}

// FormatHelp lists the endings with what they stand for, in a sentence.
func FormatHelp() string {
	var all []string
	for _, f := range Formats {
		all = append(all, f.Endings[0]+" "+f.Title)
	}
	return strings.Join(all, ", ")
}
