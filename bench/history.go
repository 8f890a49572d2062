package main

import (
	"context"
	"errors"
)

func history(ctx context.Context, s settings) ([]Figure, error) {
	return nil, errors.New("not yet")
}
