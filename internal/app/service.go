package app

import (
	"context"
	"errors"

	"initium/internal/core/text"
	"initium/internal/host"
)

// serviceUnit is what the service of a server is called.
func serviceUnit(name string) string { return "initium-" + name + ".service" }

func (a *App) services(r host.Record) host.Services {
	return host.Services{User: r.Service == host.ServiceOfUser, Home: a.Home.Dir}
}

// Service is what becomes of a server that was handed to systemd.
type Service struct {
	Unit   string            `json:"unit"`
	Handed string            `json:"handed"` // host.ServiceOfMachine, host.ServiceOfUser; "" where it was not
	State  host.ServiceState `json:"state"`
	Said   []string          `json:"said"` // what the operator has to know besides
}

// Service asks what systemd does with a server.
func (a *App) Service(ctx context.Context, name string) (*Service, error) {
	if err := a.elsewhere(name, "ask about the service of"); err != nil {
		return nil, err
	}
	r, err := a.Home.Record(name)
	if err != nil {
		return nil, err
	}
	s := &Service{Unit: serviceUnit(name), Handed: r.Service}
	if s.Handed == "" {
		return s, nil
	}
	if s.State, err = a.services(r).State(ctx, s.Unit); err != nil {
		return nil, err
	}
	switch {
	case !s.State.Known:
		s.Said = append(s.Said, "systemd knows no such service any more, and the server cannot be started; hand it over once more, or take it back with --off")
	case !s.State.Starts:
		s.Said = append(s.Said, "it was handed over, and yet somebody has seen to it that it does not start by itself")
	case s.State.Stale:
		s.Said = append(s.Said, "its file was changed, which systemd has not read yet")
	}
	if !a.services(r).Lingers() {
		s.Said = append(s.Said, alone)
	}
	if a.Home.IsRunning(name) && s.State.Known && s.State.Active == "inactive" {
		s.Said = append(s.Said, "it runs under a keeper of its own until it is stopped; from the next start on it is a service")
	}
	return s, nil
}

const alone = "it begins when you log in, and ends when you log out; to be there with the machine: loginctl enable-linger"

// HandOver gives a server to systemd, the machine's or the user's own: from now on each of its starts is one of the
// service that Unit writes, also those that are made here.
func (a *App) HandOver(ctx context.Context, name string, user bool) (*Service, error) {
	if _, err := a.idle(name, "hand over"); err != nil {
		return nil, err
	}
	r, err := a.Home.Record(name)
	if err != nil {
		return nil, err
	}
	to := host.ServiceOfMachine
	if user {
		to = host.ServiceOfUser
	}
	of := host.Services{User: user, Home: a.Home.Dir}
	if r.Service != "" && r.Service != to {
		return nil, usage("%s is a service of the %s already; take it back first, with --off", name, r.Service)
	}
	if err := of.Reachable(ctx); err != nil {
		return nil, usage("nothing is handed over: %w; initium export unit %s writes the service for a machine where systemd runs", err, name)
	}
	data, err := a.unit(name, of)
	if err != nil {
		return nil, err
	}
	if err := of.Put(ctx, serviceUnit(name), data); err != nil {
		return nil, err
	}
	r.Service = to
	if err := a.Home.PutRecord(r); err != nil {
		return nil, errors.Join(err, of.Drop(ctx, serviceUnit(name)))
	}
	return a.Service(ctx, name)
}

// TakeBack undoes HandOver. The server has to be stopped, as nobody would own it.
func (a *App) TakeBack(ctx context.Context, name string) error {
	if _, err := a.idle(name, "take back"); err != nil {
		return err
	}
	r, err := a.Home.Record(name)
	if err != nil {
		return err
	}
	if r.Service == "" {
		return usage("%s was not handed to systemd", name)
	}
	if a.Home.IsRunning(name) {
		return usage("%s is running; stop it first (initium stop %s)", name, name)
	}
	if err := a.services(r).Drop(ctx, serviceUnit(name)); err != nil {
		return err
	}
	r.Service = ""
	return a.Home.PutRecord(r)
}

// Words tell in one line what becomes of a server as a service.
func (s *Service) Words() string {
	if s.Handed == "" {
		return "not handed to systemd"
	}
	words := "handed to systemd as " + s.Unit
	if s.Handed == host.ServiceOfUser {
		words += ", a service of yours"
	} else {
		words += ", a service of the machine"
	}
	if !s.State.Known {
		return words
	}
	words += ": " + text.Clean(s.State.Active) + " (" + text.Clean(s.State.Detail) + ")"
	if s.State.Starts {
		words += ", starts by itself"
	}
	if n := s.State.Restarts; n != "" && n != "0" {
		words += ", started again " + n + " times after a failure"
	}
	if s.State.Result != "success" && s.State.Result != "" {
		words += ", ended last with " + s.State.Result
	}
	return words
}
