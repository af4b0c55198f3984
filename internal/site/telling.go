package site

import (
	"context"
	"fmt"
)

// telling is the key of who is told.
type telling struct{}

// Telling gives a context in which a place tells a person how it goes with what takes long.
func Telling(ctx context.Context, tell func(line string)) context.Context {
	return context.WithValue(ctx, telling{}, tell)
}

// Tell tells who waits for what is done in a context, where somebody does.
func Tell(ctx context.Context, format string, args ...any) {
	if tell, is := ctx.Value(telling{}).(func(string)); is {
		tell(fmt.Sprintf(format, args...))
	}
}
