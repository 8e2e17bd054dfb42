# Completion of zinker for PowerShell; not tried.
Register-ArgumentCompleter -Native -CommandName zinker -ScriptBlock {
    param($word, $tree, $cursor)
    $line = $tree.ToString()
    $line = $line.PadRight($cursor).Substring(0, $cursor)
    $env:_ZINKER_COMPLETE = 'complete_fish'
    $env:_TYPER_COMPLETE_FISH_ACTION = 'get-args'
    $env:_TYPER_COMPLETE_ARGS = $line
    zinker 2>$null | ForEach-Object {
        $value, $told = $_ -split "`t", 2
        if (-not $value) { return }
        if (-not $told) { $told = $value }
        [System.Management.Automation.CompletionResult]::new($value, $value, 'ParameterValue', $told)
    }
    Remove-Item Env:_ZINKER_COMPLETE, Env:_TYPER_COMPLETE_FISH_ACTION, Env:_TYPER_COMPLETE_ARGS
}
