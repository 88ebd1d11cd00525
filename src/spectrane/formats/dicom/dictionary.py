"""The data elements that are understood: tag, value representation, keyword (PS3.6).

An element that is not listed is kept under its tag; in implicit VR its bytes are all that is known.
"""

from __future__ import annotations

_TABLE = """
00020000 UL FileMetaInformationGroupLength|00020001 OB FileMetaInformationVersion
00020002 UI MediaStorageSOPClassUID|00020003 UI MediaStorageSOPInstanceUID
00020010 UI TransferSyntaxUID|00020012 UI ImplementationClassUID
00020013 SH ImplementationVersionName|00020016 AE SourceApplicationEntityTitle
00080005 CS SpecificCharacterSet|00080008 CS ImageType|00080012 DA InstanceCreationDate
00080013 TM InstanceCreationTime|00080014 UI InstanceCreatorUID|00080016 UI SOPClassUID
00080018 UI SOPInstanceUID|00080020 DA StudyDate|00080021 DA SeriesDate
00080022 DA AcquisitionDate|00080023 DA ContentDate|0008002A DT AcquisitionDateTime
00080030 TM StudyTime|00080031 TM SeriesTime|00080032 TM AcquisitionTime|00080033 TM ContentTime
00080050 SH AccessionNumber|00080060 CS Modality|00080061 CS ModalitiesInStudy
00080064 CS ConversionType|00080068 CS PresentationIntentType|00080070 LO Manufacturer
00080080 LO InstitutionName|00080081 ST InstitutionAddress|00080090 PN ReferringPhysicianName
00080092 ST ReferringPhysicianAddress|00080094 SH ReferringPhysicianTelephoneNumbers
00080096 SQ ReferringPhysicianIdentificationSequence|00080100 SH CodeValue
00080102 SH CodingSchemeDesignator|00080103 SH CodingSchemeVersion|00080104 LO CodeMeaning
00080201 SH TimezoneOffsetFromUTC|00081010 SH StationName|00081030 LO StudyDescription
00081032 SQ ProcedureCodeSequence|0008103E LO SeriesDescription
00081040 LO InstitutionalDepartmentName|00081048 PN PhysiciansOfRecord
00081050 PN PerformingPhysicianName|00081060 PN NameOfPhysiciansReadingStudy
00081070 PN OperatorsName|00081080 LO AdmittingDiagnosesDescription
00081084 SQ AdmittingDiagnosesCodeSequence|00081090 LO ManufacturerModelName
00081110 SQ ReferencedStudySequence|00081111 SQ ReferencedPerformedProcedureStepSequence
00081115 SQ ReferencedSeriesSequence|00081120 SQ ReferencedPatientSequence
00081140 SQ ReferencedImageSequence|0008114A SQ ReferencedInstanceSequence
00081150 UI ReferencedSOPClassUID
00081155 UI ReferencedSOPInstanceUID|00081160 IS ReferencedFrameNumber
00081195 UI TransactionUID|00082111 ST DerivationDescription|00082112 SQ SourceImageSequence
00082218 SQ AnatomicRegionSequence|00089007 CS FrameType|00089092 SQ ReferencedImageEvidenceSequence
00089124 SQ DerivationImageSequence|00089205 CS PixelPresentation
00089206 CS VolumetricProperties|00089207 CS VolumeBasedCalculationTechnique
00089208 CS ComplexImageComponent|00089209 CS AcquisitionContrast
00089215 SQ DerivationCodeSequence|00100010 PN PatientName|00100020 LO PatientID
00100021 LO IssuerOfPatientID|00100030 DA PatientBirthDate|00100032 TM PatientBirthTime
00100040 CS PatientSex|00100050 SQ PatientInsurancePlanCodeSequence
00100101 SQ PatientPrimaryLanguageCodeSequence|00101000 LO OtherPatientIDs
00101001 PN OtherPatientNames|00101002 SQ OtherPatientIDsSequence|00101005 PN PatientBirthName
00101010 AS PatientAge|00101020 DS PatientSize|00101030 DS PatientWeight
00101040 LO PatientAddress|00101050 LO InsurancePlanIdentification
00101060 PN PatientMotherBirthName|00101080 LO MilitaryRank|00101081 LO BranchOfService
00101090 LO MedicalRecordLocator|00102000 LO MedicalAlerts|00102110 LO Allergies
00102150 LO CountryOfResidence|00102152 LO RegionOfResidence
00102154 SH PatientTelephoneNumbers|00102160 SH EthnicGroup|00102180 SH Occupation
001021A0 CS SmokingStatus|001021B0 LT AdditionalPatientHistory|001021C0 US PregnancyStatus
001021D0 DA LastMenstrualDate|001021F0 LO PatientReligiousPreference
00102201 LO PatientSpeciesDescription|00102203 CS PatientSexNeutered
00102292 LO PatientBreedDescription|00102297 PN ResponsiblePerson
00102298 CS ResponsiblePersonRole|00102299 LO ResponsibleOrganization|00104000 LT PatientComments
00120010 LO ClinicalTrialSponsorName|00120020 LO ClinicalTrialProtocolID
00120021 LO ClinicalTrialProtocolName|00120030 LO ClinicalTrialSiteID
00120031 LO ClinicalTrialSiteName|00120040 LO ClinicalTrialSubjectID
00120042 LO ClinicalTrialSubjectReadingID|00120062 CS PatientIdentityRemoved
00120063 LO DeidentificationMethod|00180010 LO ContrastBolusAgent|00180015 CS BodyPartExamined
00180031 LO Radiopharmaceutical|00181070 LO RadiopharmaceuticalRoute
00181600 CS ShutterShape
00181071 DS RadiopharmaceuticalVolume|00181072 TM RadiopharmaceuticalStartTime
00181073 TM RadiopharmaceuticalStopTime|00181074 DS RadionuclideTotalDose
00181075 DS RadionuclideHalfLife|00181076 DS RadionuclidePositronFraction
00181078 DT RadiopharmaceuticalStartDateTime|00181079 DT RadiopharmaceuticalStopDateTime
00189701 DT DecayCorrectionDateTime|00189758 CS DecayCorrected
00540016 SQ RadiopharmaceuticalInformationSequence|00540300 SQ RadionuclideCodeSequence
00541006 CS SUVType|00541101 LO AttenuationCorrectionMethod|00541321 DS DecayFactor
00082144 IS RecommendedDisplayFrameRate|00180040 IS CineRate|00181063 DS FrameTime
00181065 DS FrameTimeVector|00186011 SQ SequenceOfUltrasoundRegions
00186012 US RegionSpatialFormat|00186014 US RegionDataType|00186018 UL RegionLocationMinX0
0018601A UL RegionLocationMinY0|0018601C UL RegionLocationMaxX1|0018601E UL RegionLocationMaxY1
00186024 US PhysicalUnitsXDirection|00186026 US PhysicalUnitsYDirection
0018602C FD PhysicalDeltaX|0018602E FD PhysicalDeltaY|00620001 CS SegmentationType
0062000D US RecommendedDisplayCIELabValue|0062000E US MaximumFractionalValue
00620010 CS SegmentationFractionalType|00620013 CS SegmentsOverlap
30060002 SH StructureSetLabel|30060010 SQ ReferencedFrameOfReferenceSequence
30060020 SQ StructureSetROISequence|30060022 IS ROINumber
30060024 UI ReferencedFrameOfReferenceUID|30060026 LO ROIName|3006002A IS ROIDisplayColor
30060039 SQ ROIContourSequence|30060040 SQ ContourSequence|30060042 CS ContourGeometricType
30060046 IS NumberOfContourPoints|30060050 DS ContourData|30060084 IS ReferencedROINumber
00180020 CS ScanningSequence|00180021 CS SequenceVariant|00180022 CS ScanOptions
00180023 CS MRAcquisitionType|00180024 SH SequenceName|00180040 IS CineRate
00180050 DS SliceThickness|00180060 DS KVP|00180080 DS RepetitionTime|00180081 DS EchoTime
00180082 DS InversionTime|00180083 DS NumberOfAverages|00180084 DS ImagingFrequency
00180085 SH ImagedNucleus|00180086 IS EchoNumbers|00180087 DS MagneticFieldStrength
00180088 DS SpacingBetweenSlices|00180090 DS DataCollectionDiameter|00180091 IS EchoTrainLength
00180095 DS PixelBandwidth|00181000 LO DeviceSerialNumber|00181002 UI DeviceUID
00181004 LO PlateID|00181008 LO GatewayID|00181016 LO SecondaryCaptureDeviceManufacturer
00181020 LO SoftwareVersions|00181030 LO ProtocolName|00181050 DS SpatialResolution
00181060 DS TriggerTime|00181063 DS FrameTime|00181065 DS FrameTimeVector
00181088 IS HeartRate|00181100 DS ReconstructionDiameter|00181110 DS DistanceSourceToDetector
00181111 DS DistanceSourceToPatient|00181120 DS GantryDetectorTilt|00181130 DS TableHeight
00181140 CS RotationDirection|00181150 IS ExposureTime|00181151 IS XRayTubeCurrent
00181152 IS Exposure|00181160 SH FilterType|00181164 DS ImagerPixelSpacing
00181200 DA DateOfLastCalibration|00181210 SH ConvolutionKernel|00181242 IS ActualFrameDuration
00181314 DS FlipAngle|00182010 DS NominalScannedPixelSpacing|00185100 CS PatientPosition
00185101 CS ViewPosition|00187004 CS DetectorType|00189073 FD AcquisitionDuration
00189074 DT FrameAcquisitionDateTime|00189075 CS DiffusionDirectionality
00189076 SQ DiffusionGradientDirectionSequence|00189082 FD EffectiveEchoTime
00189087 FD DiffusionBValue|00189089 FD DiffusionGradientOrientation|00189114 SQ MREchoSequence
00189117 SQ MRDiffusionSequence|00189151 DT FrameReferenceDateTime
00189301 SQ CTAcquisitionTypeSequence|00189306 FD SingleCollimationWidth
00189345 FD CTDIvol|00209071 SQ FrameAnatomySequence
0020000D UI StudyInstanceUID|0020000E UI SeriesInstanceUID|00200010 SH StudyID
00200011 IS SeriesNumber|00200012 IS AcquisitionNumber|00200013 IS InstanceNumber
00200020 CS PatientOrientation|00200032 DS ImagePositionPatient|00200037 DS ImageOrientationPatient
00200052 UI FrameOfReferenceUID|00200060 CS Laterality|00200062 CS ImageLaterality
00200100 IS TemporalPositionIdentifier|00200105 IS NumberOfTemporalPositions
00200110 DS TemporalResolution|00200200 UI SynchronizationFrameOfReferenceUID
00201002 IS ImagesInAcquisition|00201040 LO PositionReferenceIndicator|00201041 DS SliceLocation
00204000 LT ImageComments|00209056 SH StackID|00209057 UL InStackPositionNumber
00209111 SQ FrameContentSequence|00209113 SQ PlanePositionSequence
00209116 SQ PlaneOrientationSequence|00209128 UL TemporalPositionIndex
00209153 FD NominalCardiacTriggerDelayTime|00209156 US FrameAcquisitionNumber
00209157 UL DimensionIndexValues|00209158 LT FrameComments|00209161 UI ConcatenationUID
00209164 UI DimensionOrganizationUID|00209165 AT DimensionIndexPointer
00209167 AT FunctionalGroupPointer|00209221 SQ DimensionOrganizationSequence
00209222 SQ DimensionIndexSequence|00280002 US SamplesPerPixel
00280004 CS PhotometricInterpretation|00280006 US PlanarConfiguration|00280008 IS NumberOfFrames
00280009 AT FrameIncrementPointer|00280010 US Rows|00280011 US Columns|00280030 DS PixelSpacing
00280031 DS ZoomFactor|00280034 IS PixelAspectRatio|00280051 CS CorrectedImage
00280100 US BitsAllocated|00280101 US BitsStored|00280102 US HighBit|00280103 US PixelRepresentation
00280106 XS SmallestImagePixelValue|00280107 XS LargestImagePixelValue
00280120 XS PixelPaddingValue|00280121 XS PixelPaddingRangeLimit
00280122 FL FloatPixelPaddingValue|00280123 FD DoubleFloatPixelPaddingValue
00280124 FL FloatPixelPaddingRangeLimit|00280125 FD DoubleFloatPixelPaddingRangeLimit
00280300 CS QualityControlImage|00280301 CS BurnedInAnnotation
00280302 CS RecognizableVisualFeatures|00281040 CS PixelIntensityRelationship
00281041 SS PixelIntensityRelationshipSign|00281050 DS WindowCenter|00281051 DS WindowWidth
00281052 DS RescaleIntercept|00281053 DS RescaleSlope|00281054 LO RescaleType
00281055 LO WindowCenterWidthExplanation|00281056 CS VOILUTFunction
00281101 XS RedPaletteColorLookupTableDescriptor|00281102 XS GreenPaletteColorLookupTableDescriptor
00281103 XS BluePaletteColorLookupTableDescriptor|00281199 UI PaletteColorLookupTableUID
00281201 OW RedPaletteColorLookupTableData|00281202 OW GreenPaletteColorLookupTableData
00281203 OW BluePaletteColorLookupTableData|00281221 OW SegmentedRedPaletteColorLookupTableData
00281222 OW SegmentedGreenPaletteColorLookupTableData
00281223 OW SegmentedBluePaletteColorLookupTableData|00282110 CS LossyImageCompression
00282112 DS LossyImageCompressionRatio|00282114 CS LossyImageCompressionMethod
00283000 SQ ModalityLUTSequence|00283002 XS LUTDescriptor|00283003 LO LUTExplanation
00283004 LO ModalityLUTType|00283006 OW LUTData|00283010 SQ VOILUTSequence
00283110 SQ SoftcopyVOILUTSequence
00289001 UL DataPointRows|00289110 SQ PixelMeasuresSequence|00289132 SQ FrameVOILUTSequence
00289145 SQ PixelValueTransformationSequence|00321030 LO ReasonForStudy
00321032 PN RequestingPhysician|00321033 LO RequestingService
00321060 LO RequestedProcedureDescription|00321064 SQ RequestedProcedureCodeSequence
00324000 LT StudyComments|00380010 LO AdmissionID|00380020 DA AdmittingDate
00380300 LO CurrentPatientLocation|00380400 LO PatientInstitutionResidence|00380500 LO PatientState
00384000 LT VisitComments|00400006 PN ScheduledPerformingPhysicianName
00400007 LO ScheduledProcedureStepDescription|00400009 SH ScheduledProcedureStepID
00400241 AE PerformedStationAETitle|00400242 SH PerformedStationName
00400244 DA PerformedProcedureStepStartDate|00400245 TM PerformedProcedureStepStartTime
00400253 SH PerformedProcedureStepID|00400254 LO PerformedProcedureStepDescription
00400260 SQ PerformedProtocolCodeSequence|00400275 SQ RequestAttributesSequence
00400280 ST CommentsOnThePerformedProcedureStep|00401001 SH RequestedProcedureID
00401400 LT RequestedProcedureComments|00402016 LO PlacerOrderNumberImagingServiceRequest
00402017 LO FillerOrderNumberImagingServiceRequest|00402400 LT ImagingServiceRequestComments
00408302 DS EntranceDoseInmGy|004008EA SQ MeasurementUnitsCodeSequence
00409094 SQ ReferencedImageRealWorldValueMappingSequence
00409096 SQ RealWorldValueMappingSequence|00409210 SH LUTLabel
00409211 XS RealWorldValueLastValueMapped|00409212 FD RealWorldValueLUTData
00409216 XS RealWorldValueFirstValueMapped|00409224 FD RealWorldValueIntercept
00409225 FD RealWorldValueSlope|0040A123 PN PersonName|0040A124 UI UID
00480006 UL TotalPixelMatrixColumns|00480007 UL TotalPixelMatrixRows
00540010 US EnergyWindowVector|00540011 US NumberOfEnergyWindows|00540020 US DetectorVector
00540022 SQ DetectorInformationSequence|00540053 US NumberOfFramesInRotation
00540080 US SliceVector|00540081 US NumberOfSlices|00540101 US NumberOfTimeSlices
00540100 US TimeSliceVector|00541000 CS SeriesType|00541001 CS Units
00541002 CS CountsSource|00541102 CS DecayCorrection|00541300 DS FrameReferenceTime
00541330 US ImageIndex|00620002 SQ SegmentSequence|00620004 US SegmentNumber
00620005 LO SegmentLabel|0062000A SQ SegmentIdentificationSequence
0062000B US ReferencedSegmentNumber|00700001 SQ GraphicAnnotationSequence
00700041 CS ImageHorizontalFlip|00700042 US ImageRotation|00700080 CS ContentLabel
20500010 SQ PresentationLUTSequence|20500020 CS PresentationLUTShape|30040002 CS DoseUnits
30040004 CS DoseType|3004000A CS DoseSummationType|3004000C DS GridFrameOffsetVector
3004000E DS DoseGridScaling|52009229 SQ SharedFunctionalGroupsSequence
52009230 SQ PerFrameFunctionalGroupsSequence|60000010 US OverlayRows|60000011 US OverlayColumns
60000015 IS NumberOfFramesInOverlay|60000022 LO OverlayDescription|60000040 CS OverlayType
60000045 LO OverlaySubtype|60000050 SS OverlayOrigin|60000051 US ImageFrameOrigin
60000100 US OverlayBitsAllocated|60000102 US OverlayBitPosition|60001500 LO OverlayLabel
60003000 OW OverlayData|7FE00001 OV ExtendedOffsetTable|7FE00002 OV ExtendedOffsetTableLengths
7FE00008 OF FloatPixelData|7FE00009 OD DoubleFloatPixelData|7FE00010 OW PixelData
"""


def _parsed() -> dict[int, tuple[str, str]]:
    entries = {}
    for entry in _TABLE.replace("|", "\n").split("\n"):
        if entry:
            tag, representation, keyword = entry.split()
            entries[int(tag, 16)] = (representation, keyword)
    return entries


ELEMENTS = _parsed()
"""Tag -> (value representation, keyword); ``XS`` is US or SS, as the pixels are signed."""
TAGS = {keyword: tag for tag, (_, keyword) in ELEMENTS.items()}


def known(tag: int) -> tuple[str, str] | None:
    """Return representation and keyword; those of repeating overlay groups are group 6000's.

    >>> known(0x00280010), known(0x60020010), known(0x00091001)
    (('US', 'Rows'), ('US', 'OverlayRows'), None)
    """
    if 0x6000 <= tag >> 16 <= 0x601E and not tag >> 16 & 1:
        tag = 0x60000000 | tag & 0xFFFF
    return ELEMENTS.get(tag)


def implied(tag: int) -> str:
    """Return the representation that implicit VR leaves to the dictionary (PS3.5 section 7.1.3).

    >>> implied(0x00100010), implied(0x00090010), implied(0x00090000), implied(0x00091001)
    ('PN', 'LO', 'UL', 'UN')
    """
    found = known(tag)
    if found is not None:
        return found[0]
    if tag & 0xFFFF == 0:
        return "UL"
    creator = tag >> 16 & 1 and 0x10 <= tag & 0xFFFF <= 0xFF
    return "LO" if creator else "UN"


def written(tag: int) -> str:
    """Write a tag as the standard does.

    >>> written(0x00280010)
    '(0028,0010)'
    """
    return f"({tag >> 16:04X},{tag & 0xFFFF:04X})"
