package verb
