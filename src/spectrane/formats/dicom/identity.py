"""Which elements say who somebody is: those of the basic confidentiality profile (PS3.15 annex E).

They stay in the metadata for programs. People see them only where they ask.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

# Beginnings of keywords and whole ones: names, numbers, places, dates and free texts of people.
_BEGINNINGS = (
    "Patient", "OtherPatient", "ReferringPhysician", "Institution", "Responsible", "ClinicalTrial",
    "AdmittingDiagnoses", "Insurance", "PhysiciansOfRecord", "PerformingPhysician", "NameOf",
    "Requesting", "RequestedProcedure", "RequestAttributes", "Scheduled", "PerformedProcedure",
    "PerformedStation", "PlacerOrder", "FillerOrder",
)  # fmt: skip
_HARMLESS = frozenset({"PatientPosition", "PatientOrientation", "PatientIdentityRemoved",
                       "PatientSpeciesDescription", "PatientBreedDescription",
                       "PatientSexNeutered"})  # fmt: skip
_TEXT = """
AccessionNumber OperatorsName StationName StudyID StudyDate SeriesDate AcquisitionDate ContentDate
InstanceCreationDate AcquisitionDateTime StudyTime SeriesTime AcquisitionTime ContentTime
InstanceCreationTime TimezoneOffsetFromUTC IssuerOfPatientID MilitaryRank BranchOfService
MedicalRecordLocator MedicalAlerts Allergies CountryOfResidence RegionOfResidence EthnicGroup
Occupation SmokingStatus AdditionalPatientHistory PregnancyStatus LastMenstrualDate
StudyDescription SeriesDescription DerivationDescription ImageComments StudyComments VisitComments
FrameComments AdmissionID AdmittingDate CurrentPatientLocation ReasonForStudy DeviceSerialNumber
DeviceUID PlateID GatewayID ProtocolName SOPInstanceUID StudyInstanceUID SeriesInstanceUID
FrameOfReferenceUID SynchronizationFrameOfReferenceUID InstanceCreatorUID TransactionUID
ConcatenationUID UID PersonName ReferencedSOPInstanceUID MediaStorageSOPInstanceUID
ReferencedPatientSequence ReferencedStudySequence ReferencedPerformedProcedureStepSequence
ProcedureCodeSequence CommentsOnThePerformedProcedureStep PerformedProtocolCodeSequence
ImagingServiceRequestComments DateOfLastCalibration FrameAcquisitionDateTime FrameReferenceDateTime
SourceApplicationEntityTitle RadiopharmaceuticalStartTime RadiopharmaceuticalStopTime
RadiopharmaceuticalStartDateTime RadiopharmaceuticalStopDateTime DecayCorrectionDateTime
"""
_WHOLE = frozenset(_TEXT.split())


def identifies(keyword: str) -> bool:
    """Tell whether an element may say who somebody is; private ones (tags) may.

    >>> identifies("PatientName"), identifies("Rows"), identifies("(0009,1001)")
    (True, False, True)
    """
    if keyword.startswith("("):
        return True
    return keyword not in _HARMLESS and (keyword in _WHOLE or keyword.startswith(_BEGINNINGS))


def identifying(metadata: Mapping[str, Any]) -> tuple[str, ...]:
    """Return which identifying elements metadata hold, sequences looked through."""
    keywords: dict[str, None] = {}
    for keyword, value in metadata.items():
        if identifies(keyword):
            keywords[keyword] = None
        elif isinstance(value, list):
            for item in value:
                if isinstance(item, Mapping):
                    keywords |= dict.fromkeys(identifying(item))
    return tuple(keywords)
