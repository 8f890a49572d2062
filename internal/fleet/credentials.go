package fleet

import "strings"

// Berth is where a gateway of the fleet is, and what opens it.
type Berth struct {
	Dialect string // that it speaks
	Path    string // below the fleet's address
	Secrets map[string]string
	Senders []string // that are leased from it
}

// Berths lists the gateways of the fleet, one for each dialect.
func Berths() []Berth {
	stamphouse := map[string]string{"key": StamphouseKey, "hook_user": StamphouseUser, "hook_password": StamphousePassword}
	all := []Berth{
		{Dialect: "harbourline", Secrets: map[string]string{"api_key": HarbourlineKey, "receipt_secret": HarbourlineReceiptSecret}},
		{Dialect: "sandbank", Secrets: map[string]string{"user": SandbankUser, "password": SandbankPassword}},
		{Dialect: "longshore", Secrets: map[string]string{"account": LongshoreAccount, "token": LongshoreToken}},
		{
			Dialect: "stillwater",
			Secrets: map[string]string{"client_id": StillwaterClient, "client_secret": StillwaterSecret},
			Senders: StillwaterSenders,
		},
		{Dialect: "oldpier", Secrets: map[string]string{"key": OldpierKey, "secret": OldpierSecret}},
		{Dialect: "commonquay", Secrets: map[string]string{"key": CommonquayKey}},
		{Dialect: "stamphouse", Secrets: stamphouse},
		{Dialect: "stamphouse-voice", Secrets: stamphouse},
		{Dialect: "waxseal", Secrets: map[string]string{"key_id": WaxsealKeyID, "signing_key": WaxsealSigningKey}},
	}
	for i := range all {
		place, _, _ := strings.Cut(all[i].Dialect, "-")
		all[i].Path = "/" + place
	}
	return all
}
