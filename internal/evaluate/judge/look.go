package judge

import (
	"obiter/internal/core/exchange"
	"obiter/internal/evaluate/layout"
	"obiter/internal/evaluate/problem"
)

// look is an answer with what is read out of it, once for all who judge it.
type look struct {
	c          *exchange.Case
	a          *exchange.Answer
	doc        problem.Document
	departures []problem.Departure
	fields     *layout.Vocabulary // of the control, where others have the same; may be nil
	vocabulary *layout.Vocabulary // made when first needed
	found      []layout.Reading
	read       *layout.Reading   // by what was known
	known      *layout.Knowledge // then
}

func lookAt(c *exchange.Case, a *exchange.Answer) *look {
	l := &look{c: c, a: a}
	l.doc, l.departures = problem.Of(*a)
	return l
}

// words are the fields that the request could be blamed for.
func (l *look) words() *layout.Vocabulary {
	if l.vocabulary == nil && l.fields != nil {
		l.vocabulary = l.fields.With(l.c.Body, pointers(*l.c))
	}
	if l.vocabulary == nil {
		l.vocabulary = layout.NewVocabulary(l.c.Body, l.c.Control, pointers(*l.c))
	}
	return l.vocabulary
}

// places are those of the answer that may name fields.
func (l *look) places() []layout.Reading {
	if l.found == nil {
		l.found = layout.Places(l.doc.Value, l.words())
	}
	return l.found
}

// reading is what the answer says of fields, by what is known.
func (l *look) reading(ctx Context) layout.Reading {
	if k := ctx.Layout; k != nil && !k.Learned {
		return layout.ReadAs(l.doc.Value, *k, l.words())
	}
	if l.read == nil || l.known != ctx.Knowledge {
		r := ctx.Knowledge.Choose(l.places(), l.c.Operation, l.words())
		l.read, l.known = &r, ctx.Knowledge
	}
	return *l.read
}
