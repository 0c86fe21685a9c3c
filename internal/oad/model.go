package oad

import (
	"errors"
	"fmt"
	"iter"
	"log/slog"
	"path/filepath"

	"github.com/pb33f/go-yaml"
	"github.com/pb33f/libopenapi/datamodel"
	"github.com/pb33f/libopenapi/datamodel/low/base"
	"github.com/pb33f/libopenapi/datamodel/low/v3"
	"github.com/pb33f/libopenapi/index"
	"github.com/pb33f/libopenapi/utils"
)

// The library's model with places ("low") is all that is needed of it. Its other
// packages, for comparing, bundling and older versions, take minutes to compile.

// parseOpenAPI has the library parse a document. The model can be built once; it
// is nil where the document cannot be used.
func parseOpenAPI(src []byte, abs string) (root *yaml.Node, build func() (*v3.Document, error), err error) {
	defer caught(&err)
	conf := datamodel.NewDocumentConfiguration()
	conf.Logger = slog.New(slog.DiscardHandler)
	conf.BasePath, conf.SpecFilePath = filepath.Dir(abs), filepath.Base(abs)
	conf.AllowFileReferences = true
	conf.SkipJSONConversion = true
	conf.SkipMetadataCollection = true // what linters ask for
	info, err := datamodel.ExtractSpecInfoWithConfig(src, conf)
	if err != nil {
		return nil, nil, err
	}
	return info.RootNode, func() (model *v3.Document, err error) {
		defer caught(&err)
		model, err = v3.CreateDocumentFromConfig(info, conf)
		base.ClearSchemaQuickHashMap()
		for _, e := range utils.UnwrapErrors(err) { // references in a circle are fine
			var refers *index.ResolvingError
			if errors.As(e, &refers) && refers.CircularReference == nil {
				return nil, err
			}
		}
		return model, err
	}, nil
}

// caught makes an error of a panic: the library is given whatever users have.
func caught(err *error) {
	if r := recover(); r != nil {
		*err = fmt.Errorf("%v", r)
	}
}

// meanwhile begins something and gives what waits for it.
func meanwhile(build func() (*v3.Document, error)) func() (*v3.Document, error) {
	var model *v3.Document
	var err error
	done := make(chan struct{})
	go func() {
		defer close(done)
		model, err = build()
	}()
	return func() (*v3.Document, error) {
		<-done
		return model, err
	}
}

// operationsOf are the operations of a path by their methods.
func operationsOf(item *v3.PathItem) iter.Seq2[string, *v3.Operation] {
	return func(yield func(string, *v3.Operation) bool) {
		for _, o := range []struct {
			method string
			op     *v3.Operation
		}{
			{"get", item.Get.Value}, {"put", item.Put.Value}, {"post", item.Post.Value}, {"delete", item.Delete.Value}, {"options", item.Options.Value},
			{"head", item.Head.Value}, {"patch", item.Patch.Value}, {"trace", item.Trace.Value}, {"query", item.Query.Value},
		} {
			if o.op != nil && !yield(o.method, o.op) {
				return
			}
		}
		if item.AdditionalOperations.Value == nil {
			return
		}
		for method, op := range item.AdditionalOperations.Value.FromOldest() {
			if op.Value != nil && !yield(method.Value, op.Value) {
				return
			}
		}
	}
}
