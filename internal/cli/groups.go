package cli

// group is commands that belong to one part of the work.
type group struct {
	title    string
	commands []command
}

// groups are all commands, in the order of the work.
func groups() []group {
	return []group{
		{"To run it", append(serving(), command{"version", "", "Print the version", runVersion})},
		{"The company", []command{
			companyCommand(), placeCommand(), peopleCommand(), tokensCommand(), securityCommand(), profilesCommand(), seriesCommand(),
			setupCommand(), tellCommand(), personCommand(), keepPersonalCommand(), looksCommand(), backupsCommand(), keysCommand(),
			healthCommand(), activityCommand(), jobsCommand(),
		}},
		{"Connections", []command{
			connectionsCommand(), joinCommand(), settingsCommand(), overridesCommand(), feedsCommand(), feedCommand(), runCommand(),
			runsCommand(), logCommand(), pauseCommand(), testCommand(), testModeCommand(), clearTestsCommand(), renewCommand(),
			leaveCommand(), accountsCommand(), connectorsCommand(), addConnectorCommand(), dropConnectorCommand(), benchCommand(),
			checkAddressCommand(), shapesCommand(),
		}},
		{"Items and listings", []command{
			catalogCommand(), itemsCommand(), itemCommand(), listingsCommand(), listingCommand(), knownCommand(), publishCommand(),
			importCommand(), saveCommand(),
		}},
		{"Stock and supply", []command{
			stockCommand(), whyCommand(), adjustCommand(), purchaseCommand(), transferCommand(), countCommand(), compareCommand(),
		}},
		{"Orders", []command{
			boardCommand(), ordersCommand(), orderCommand(), typeCommand(), answerCommand(), releaseCommand(), actCommand(),
			undoActCommand(), voidCommand(), takeInAgainCommand(), mergeCommand(), undoMergeCommand(), handOverCommand(),
			rulesCommand(), ruleCommand(), rehearseCommand(),
		}},
		{"Picking and parcels", []command{
			pickCommand(), scanCommand(), packCommand(), picklistCommand(), ratesCommand(), shipCommand(), shipmentsCommand(),
			labelCommand(), manifestCommand(), notBoughtCommand(),
		}},
		{"What needs a person", []command{
			exceptionsCommand(), assignCommand(), snoozeCommand(), sendAgainCommand(),
		}},
		{"Reports", []command{
			reportCommand(),
		}},
	}
}
