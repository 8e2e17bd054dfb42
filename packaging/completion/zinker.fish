# Completion of zinker for fish.
function __zinker_words
    env _ZINKER_COMPLETE=complete_fish _TYPER_COMPLETE_FISH_ACTION=get-args _TYPER_COMPLETE_ARGS=(commandline -cp) zinker 2>/dev/null
end
complete -c zinker -a '(__zinker_words)'
