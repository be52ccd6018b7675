# Completion of morvant for PowerShell 5.1 and newer. Load it with:
#   morvant completion pwsh | Out-String | Invoke-Expression
Register-ArgumentCompleter -Native -CommandName morvant -ScriptBlock {
    param($word, $ast, $cursor)
    # The words before the one being completed; a flag is completed with its beginning.
    $before = @($ast.CommandElements | Where-Object { $_.Extent.EndOffset -lt $cursor } | Select-Object -Skip 1 |
        ForEach-Object { $_.Extent.Text.Trim('"', "'") })
    if ($word -like '-*') { $before += $word }
    $program = $ast.CommandElements[0].Extent.Text.Trim('"', "'")
    & $program @before --generate-shell-completion 2>$null | ForEach-Object {
        $value, $about = $_ -split ':', 2
        if ($value -like "$word*") {
            if (-not $about) { $about = $value }
            $text = if ($value -match '\s') { "'$value'" } else { $value }
            [System.Management.Automation.CompletionResult]::new($text, $value, 'ParameterValue', $about)
        }
    }
}
