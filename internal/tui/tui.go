package tui

import (
	"context"

	"initium/internal/app"
)

func Run(ctx context.Context, a *app.App, server string) error { return nil }
