package cli

// group is commands that belong to one part of the work.
type group struct {
	title    string
	commands []command
}

// groups are all commands, in the order of the work.
func groups() []group {
	return []group{
		{"To run it", serving()},
		{"The company", []command{
			companyCommand(),
			placeCommand().with(checkAddressCommand(), addressChecksCommand()),
			personCommand().with(personInFileCommand()),
			tokenCommand().with(tokenInFileCommand()),
			profileCommand(), senderCommand(), carrierCommand(), seriesCommand(), changeCommand(), setupCommand(),
			of("privacy", "What is kept of buyers, for how long, and who looked at it",
				privacyShowCommand(), privacyEraseCommand(), keepPersonalCommand(), looksCommand()),
			securityCommand(), keyCommand(), retentionCommand(), healthCommand(), activityCommand(),
			of("job", "Work that waits or is under way", jobsCommand()),
		}},
		{"Connections", []command{
			of("connector", "The systems that can be joined, and definitions of one's own", connectorsCommand(),
				newConnectorCommand(), connectorCheckCommand(), connectorTryCommand(), addConnectorCommand(), compareConnectorCommand(),
				connectorVersionsCommand(), takeBackConnectorCommand(), dropConnectorCommand(), readConnectorsCommand(),
				shapesCommand()),
			joinCommand(),
			of("connection", "What is joined, and how it stands", connectionsCommand(), settingsCommand(),
				overridesCommand(), pauseCommand(), testCommand(), testModeCommand(), clearTestsCommand(), benchCommand(),
				renewCommand(), leaveCommand(), accountsCommand()),
			of("feed", "What a connection hears and tells", feedsCommand(), feedCommand(), runCommand()),
			of("run", "What feeds did, and their logs", runsCommand(), logCommand()),
			of("file", "Files that came and went, where a system exchanges files", filesCommand()),
			of("message", "Messages that were refused, or of which nothing is known", sendAgainCommand(), notBoughtCommand()),
		}},
		{"Items and listings", []command{
			of("item", "Items: what is sold and stored", itemsCommand(), itemCommand()).
				with(catalogCommand().verbs...),
			of("listing", "What channels show; LISTING is the number in the list", listingsCommand()).
				with(listingCommand().verbs...).with(knownCommand(), publishCommand()),
			of("sheet", "Tables as CSV: items, stock and more", importCommand(), saveCommand()),
		}},
		{"Stock and supply", []command{
			of("stock", "What there is, where, and why", stockCommand(), whyCommand(), adjustCommand(), compareCommand()),
			purchaseCommand(), transferCommand(), countCommand(),
		}},
		{"Orders", []command{
			boardCommand(),
			of("order", "Orders, and what is done with them", ordersCommand(), orderCommand(), typeCommand(), answerCommand(),
				releaseCommand(), takeAddressCommand(), pickupPointsCommand(), pickupPointCommand(),
				keepBackCommand(), moveUnitsCommand(), splitCommand(), companionsCommand(),
				togetherCommand(), aloneCommand(), cancelCommand(), actCommand(), undoActCommand(), voidCommand(), takeInAgainCommand(),
				mergeCommand(), undoMergeCommand(), handOverCommand(), orderPlanCommand(), replanCommand(),
				askPartnersCommand(), letSendCommand()),
			routingCommand(), partnerCommand(), requestCommand(),
			of("rule", "What is decided by rule", rulesCommand(), ruleCommand(), rehearseCommand()),
		}},
		{"Picking, parcels and returns", parcelGroup()},
		{"What needs a person", []command{
			of("exception", "What needs a person, and who hears of it", exceptionsCommand(), assignCommand(),
				snoozeCommand(), settleCommand(), tellCommand()),
		}},
		{"Reports", []command{reportCommand()}},
	}
}

// parcelGroup are the commands of whoever stands at a bench.
func parcelGroup() []command {
	return []command{
		of("shipment", "What one place sends to one buyer: from the pick list into parcels", shipmentsCommand(), picklistCommand(),
			pickCommand(), scanCommand(), takeBackCommand(), shortCommand(), proposeCommand(), packCommand(),
			consignCommand()),
		of("parcel", "Cartons with what lies in them: from packing to the label", parcelsCommand(), parcelCommand(), repackCommand(),
			unpackCommand(), takeOutCommand(), correctAddressCommand(), actOnParcelsCommand(), ratesCommand(), insureCommand(),
			shipCommand(), typeNumberCommand(), voidLabelCommand(), keepLabelCommand(), claimCommand(),
			customsPapersCommand(), labelCommand(),
			packingSlipCommand()),
		of("round", "Shipments that are picked in one walk", roundsCommand(), roundCommand(), makeRoundCommand(), takeRoundCommand(),
			scanRoundCommand(), takeBackRoundCommand(), shortRoundCommand(), leaveRoundCommand(), takeRoundApartCommand(),
			roundListCommand(), roundRulesCommand(), roundRuleCommand()),
		of("return", "Goods that come back", returnsCommand(), returnCommand(), announceReturnCommand(), scanReturnCommand(),
			moveReturnedCommand(), settleReturnCommand(), exchangeReturnCommand(), callOffReturnCommand(),
			returnLabelCommand()),
		of("service", "By which service parcels go", servicesCommand(), addServiceCommand(), dropServiceCommand()),
		collectionCommand(), accountCommand(), senderAddressCommand(), customsCommand(), freightRuleCommand(),
		printerCommand(),
		of("bill", "What carriers bill beside what they asked", billsCommand(), decideBillCommand()),
		of("manifest", "What carriers take on a day", manifestsCommand(), closeManifestCommand()),
	}
}
