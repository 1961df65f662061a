package api

import (
	"context"
	"net/url"

	"github.com/danielgtaylor/huma/v2"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/reason"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
)

type cloudGroupsQuery struct {
	Directory string `query:"directory" maxLength:"63" doc:"In this directory alone"`
	Show      string `query:"show" enum:"all,kept,other,leaving,problems,drift" default:"all"`
	Text      string `query:"text" maxLength:"200" doc:"In the name, or the id"`
	Cursor    string `query:"cursor"`
	Limit     int    `query:"limit" minimum:"1" maximum:"500" default:"50"`
}

// CloudGroupPath names a group in a directory; exported since Huma reads it where it is
// embedded.
type CloudGroupPath struct {
	Directory string `path:"directory" maxLength:"63" doc:"The directory's name; - for the only one that keeps groups"`
	Group     string `path:"group" maxLength:"400" doc:"The group's id in the cloud, or its name"`
}

// names are the directory, "" for the only one, and the group, as they were before they
// became parts of a path.
func (p CloudGroupPath) names() (directory, group string) {
	directory = p.Directory
	if directory == "-" {
		directory = ""
	}
	group, err := url.PathUnescape(p.Group)
	if err != nil {
		group = p.Group
	}
	return directory, group
}

type cloudGroupMembers struct {
	CloudGroupPath
	Text   string `query:"text" maxLength:"200"`
	Cursor string `query:"cursor"`
	Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"50"`
}

type cloudGroupWhy struct {
	CloudGroupPath
	Member string `query:"member" maxLength:"400" doc:"The login, name or id of one in the cloud; empty for the group itself"`
}

type driftQuery struct {
	Directory string `query:"directory" maxLength:"63"`
	Group     string `query:"group" maxLength:"400" doc:"The group's id"`
	Cursor    string `query:"cursor"`
	Limit     int    `query:"limit" minimum:"1" maximum:"500" default:"50"`
}

type cloudGroupTrial struct {
	CloudGroupPath
	Body wire.TryCloudGroup
}

type cloudGroupHandOver struct {
	CloudGroupPath
	Body wire.HandOver
}

func (s *Server) cloudGroupRoutes() {
	groups := s.service.Groups
	huma.Register(s.api, operation("GET", "/cloud-groups/directories", "cloud-group-directories", "In which directories groups of the cloud are kept, and how they stand", wire.Viewer), func(ctx context.Context, _ *struct{}) (*body[[]wire.CloudGroupDirectory], error) {
		return answer(groups.Directories(ctx))
	})
	huma.Register(s.api, operation("GET", "/cloud-groups/defaults", "cloud-group-defaults", "How groups of the cloud are kept where the settings say nothing, by dialect", wire.Viewer), func(context.Context, *struct{}) (*body[wire.CloudGroupDefaults], error) {
		return &body[wire.CloudGroupDefaults]{Body: wire.CloudGroupDefaults{AD: settings.CloudGroups{}.Whole(entry.AD), Standard: settings.CloudGroups{}.Whole(entry.Standard)}}, nil
	})
	huma.Register(s.api, operation("GET", "/cloud-groups", "list-cloud-groups", "Groups of the cloud as they stand in directories, those first that are kept", wire.Viewer), func(ctx context.Context, in *cloudGroupsQuery) (*body[wire.Page[wire.CloudGroup]], error) {
		return paged(in.Cursor, func(offset int) ([]wire.CloudGroup, int, error) {
			return groups.List(ctx, store.GroupQuery{Show: in.Show, Text: in.Text, Offset: offset, Limit: in.Limit}, in.Directory)
		})
	})
	huma.Register(s.api, operation("GET", "/cloud-groups/drift", "list-drift", "What somebody has changed of these groups in directories, and runs have put back, the newest first", wire.Viewer), func(ctx context.Context, in *driftQuery) (*body[wire.Page[wire.Drift]], error) {
		return paged(in.Cursor, func(offset int) ([]wire.Drift, int, error) {
			return groups.Drifts(ctx, in.Directory, in.Group, offset, in.Limit)
		})
	})
	huma.Register(s.api, operation("GET", "/cloud-groups/{directory}/{group}", "show-cloud-group", "One group, with why it stands as it does", wire.Viewer), func(ctx context.Context, in *CloudGroupPath) (*body[wire.CloudGroupDetail], error) {
		directory, group := in.names()
		return answer(groups.Show(ctx, directory, group))
	})
	for _, one := range []struct {
		name, id, summary string
		list              func(context.Context, string, string, string, int, int) ([]wire.CloudGroupMember, int, error)
	}{
		{"members", "list-cloud-group-members", "The members that a group has in its directory", groups.Members},
		{"left-out", "list-cloud-group-left-out", "The members of a group in the cloud that are none in the directory, each with why", groups.LeftOut},
	} {
		huma.Register(s.api, operation("GET", "/cloud-groups/{directory}/{group}/"+one.name, one.id, one.summary, wire.Viewer), func(ctx context.Context, in *cloudGroupMembers) (*body[wire.Page[wire.CloudGroupMember]], error) {
			directory, group := in.names()
			return paged(in.Cursor, func(offset int) ([]wire.CloudGroupMember, int, error) {
				return one.list(ctx, directory, group, in.Text, offset, in.Limit)
			})
		})
	}
	huma.Register(s.api, operation("GET", "/cloud-groups/{directory}/{group}/why", "why-cloud-group", "Why a group is kept or not, or why somebody is its member or not", wire.Viewer), func(ctx context.Context, in *cloudGroupWhy) (*body[[]reason.Node], error) {
		directory, group := in.names()
		return answer(groups.Why(ctx, directory, group, in.Member))
	})
	huma.Register(s.api, operation("POST", "/cloud-groups/{directory}/{group}/trial", "try-cloud-group", "Rehearse or write one group with a few of its members, chosen or not", wire.OperatorRole), func(ctx context.Context, in *cloudGroupTrial) (*body[wire.Run], error) {
		directory, group := in.names()
		return s.started(ctx, func() (int64, error) { return groups.Try(ctx, who(ctx).Name, directory, group, in.Body) })
	})
	huma.Register(s.api, operation("POST", "/cloud-groups/{directory}/{group}/decide-again", "decide-cloud-group-again", "Let what was kept of a group be decided again", wire.OperatorRole), func(ctx context.Context, in *CloudGroupPath) (*body[wire.Run], error) {
		directory, group := in.names()
		return s.started(ctx, func() (int64, error) { return groups.DecideAgain(ctx, who(ctx).Name, directory, group) })
	})
	huma.Register(s.api, operation("POST", "/cloud-groups/{directory}/{group}/hand-over", "hand-over-cloud-group", "Let the other side own a group, the cloud or the directory; both objects stay", wire.OperatorRole), func(ctx context.Context, in *cloudGroupHandOver) (*body[wire.HandedOver], error) {
		directory, group := in.names()
		return answer(groups.HandOver(ctx, who(ctx).Name, directory, group, in.Body))
	})
}
